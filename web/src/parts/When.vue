<script setup lang="ts">
/** A time: relative up to a day, then the date; the full time on hover. */
import { computed } from 'vue'
import { live } from '@/app/live'
import { ago, dayOrTime, fullTime } from './format'

const props = defineProps<{ at: string | null | undefined; clock?: boolean }>()
const text = computed(() => (props.at ? (props.clock ? dayOrTime(props.at, live.now.value) : ago(props.at, live.now.value)) : '–'))
</script>

<template>
  <time v-if="at" :datetime="at" :title="fullTime(at)" class="whitespace-nowrap">{{ text }}</time>
  <span v-else>–</span>
</template>
