<script setup lang="ts">
/** What was sent to be printed for an order, side by side with where it lies. */
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { filePicture, mm, sentQuery } from '@/stations/print/print'

const props = defineProps<{ order: number }>()
const { data } = useQuery(computed(() => sentQuery(props.order)))
</script>

<template>
  <div v-if="data?.length" class="flex flex-wrap gap-3 border-t border-rule px-3.5 py-2" aria-label="What is printed">
    <figure v-for="one in data" :key="`${one.reference}${one.item}${one.side}`" class="flex items-center gap-2">
      <a :href="filePicture(one.preview)" target="_blank" rel="noopener"
        ><img :src="filePicture(one.preview)" :alt="`${one.artwork} on ${one.item}, ${one.side}`" class="size-16 border border-rule"
      /></a>
      <figcaption class="text-xs">
        <b>{{ one.artwork }}</b><br /><span class="text-soft"
          >{{ one.item }}, {{ one.side }}<br />{{ mm(one.w) }} × {{ mm(one.h) }} mm at {{ mm(one.x) }}, {{ mm(one.y) }} ·
          <a class="text-slate hover:underline" :href="filePicture(one.file)" target="_blank" rel="noopener">print file</a></span
        >
      </figcaption>
    </figure>
  </div>
</template>
