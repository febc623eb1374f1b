<script setup lang="ts">
/** Every colour with the version that reads on it; those on which none does say so, and are left out by themselves. */
import type { Schema } from '@/api/client'
import Tag from '@/parts/Tag.vue'
import { percent } from '@/parts/format'
import { FAULTS, GROUNDS, designPicture, type Design } from './print'

defineProps<{ of: Design; side: string; chosen: string }>()
const emit = defineEmits<{ choose: [colour: string]; toggle: [colour: Schema<'PrintColour'>] }>()
const groundOf = (one: Schema<'PrintColour'>) => (one.version ? (GROUNDS[one.ground] ?? `for ${one.ground}`) : 'no version')
</script>

<template>
  <div class="sheet flex shrink-0 gap-1 overflow-x-auto p-2" role="group" aria-label="Colours">
    <div
      v-for="one in of.colours"
      :key="one.name"
      class="w-[106px] shrink-0 rounded border-2 p-1.5 text-center"
      :class="one.name === chosen ? 'border-ink' : 'border-transparent'"
    >
      <button type="button" :aria-pressed="one.name === chosen" class="block w-full" @click="emit('choose', one.name)">
        <img
          :src="designPicture(of, one, side)"
          alt=""
          class="mx-auto size-[84px] rounded"
          :class="one.left_out || one.fault ? 'opacity-55' : ''"
          loading="lazy"
        />
        <b class="mt-1 block truncate">{{ one.name }}</b>
        <span class="block truncate text-2xs text-soft">{{ groundOf(one) }}</span>
        <Tag :tone="one.fault ? 'loss' : one.outcome === 'soft' ? 'plain' : 'good'">{{
          one.fault && one.fault !== 'unreadable' ? FAULTS[one.fault] : `${percent(one.readable / 10)} reads`
        }}</Tag>
      </button>
      <button
        type="button"
        class="mt-1 min-h-6 w-full text-2xs text-slate hover:underline"
        :aria-pressed="!one.left_out"
        :aria-label="one.left_out ? `Take ${one.name} in` : `Leave ${one.name} out`"
        @click="emit('toggle', one)"
      >
        {{ one.left_out ? 'left out: take it in' : 'leave out' }}
      </button>
    </div>
  </div>
</template>
