<script setup lang="ts">
/** A time: relative up to a day, then the date; the full time on hover. */
import { computed } from 'vue'
import { live } from '@/app/live'
import { ago as since, dayOrTime, fullTime } from './format'

const props = defineProps<{ at: string | null | undefined; clock?: boolean; ago?: boolean }>()
const said = computed(() => (props.at ? (props.clock ? dayOrTime(props.at, live.now.value) : since(props.at, live.now.value)) : '–'))
const text = computed(() => (props.ago && /(min|h|h \d\d)$/.test(said.value) ? `${said.value} ago` : said.value))
</script>

<template>
  <time v-if="at" :datetime="at" :title="fullTime(at)" class="whitespace-nowrap">{{ text }}</time>
  <span v-else>–</span>
</template>
