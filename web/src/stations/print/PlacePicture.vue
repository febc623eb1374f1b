<script setup lang="ts">
/** The blank true to scale with its print area, and the artwork that is dragged or made larger on it. */
import { useEventListener } from '@vueuse/core'
import { computed, ref } from 'vue'
import type { Schema } from '@/api/client'
import { artPicture, blankPicture, heightOf, type Design, type Spot } from './print'

const props = defineProps<{
  of: Design
  scene?: Schema<'PrintScene'>
  colour: Schema<'PrintColour'>
  side: string
  spot: Spot
  other?: number
}>()
const emit = defineEmits<{ place: [spot: Spot]; placed: [] }>()
const frame = ref<HTMLElement | null>(null)
const h = computed(() => heightOf(props.spot.w, props.of))
const part = (n: number) => `${n * 100}%`
const area = computed(() =>
  props.scene
    ? { left: part(props.scene.left), top: part(props.scene.top), width: part(props.scene.width), height: part(props.scene.height) }
    : {},
)
const art = computed(() =>
  props.scene
    ? {
        left: part(props.scene.left + props.spot.x * props.scene.scale),
        top: part(props.scene.top + props.spot.y * props.scene.scale),
        width: part(props.spot.w * props.scene.scale),
        height: part(h.value * props.scene.scale),
      }
    : {},
)
let begun: { x: number; y: number; spot: Spot; sizing: boolean } | null = null
function grab(event: PointerEvent, sizing: boolean) {
  event.preventDefault()
  begun = { x: event.clientX, y: event.clientY, spot: { ...props.spot }, sizing }
}
/** A pixel of the screen in hundredths of a millimetre; places are kept to a tenth. */
const tenth = (value: number) => Math.round(value / 10) * 10
useEventListener(window, 'pointermove', (event: PointerEvent) => {
  if (!begun || !frame.value || !props.scene) return
  const unit = 1 / (frame.value.clientWidth * props.scene.scale)
  const dx = (event.clientX - begun.x) * unit
  const dy = (event.clientY - begun.y) * unit
  if (begun.sizing) emit('place', { ...begun.spot, w: Math.max(100, tenth(begun.spot.w + dx)) })
  else emit('place', { ...begun.spot, x: tenth(begun.spot.x + dx), y: tenth(begun.spot.y + dy) })
})
useEventListener(window, 'pointerup', () => {
  if (begun) emit('placed')
  begun = null
})
const version = computed(() => props.other ?? props.colour.version)
</script>

<template>
  <div ref="frame" class="relative aspect-square w-full touch-none overflow-hidden rounded select-none">
    <img
      :src="blankPicture(of, colour.name, side)"
      :alt="`${of.blank_name}, ${colour.name}, ${of.size}, ${side}`"
      class="size-full"
      draggable="false"
    />
    <template v-if="scene">
      <span class="pointer-events-none absolute border border-dashed border-slate" :style="area" />
      <div class="absolute cursor-move border border-slate" :style="art" @pointerdown="grab($event, false)">
        <img v-if="version" :src="artPicture(version)" alt="" class="size-full" draggable="false" />
        <span
          class="absolute -right-1.5 -bottom-1.5 size-3 cursor-nwse-resize border border-slate bg-sheet"
          @pointerdown.stop="grab($event, true)"
        />
      </div>
    </template>
  </div>
</template>
