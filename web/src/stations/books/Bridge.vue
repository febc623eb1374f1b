<script setup lang="ts">
/** From one period's profit to the other's: every effect can be opened. */
import { computed } from 'vue'
import type { Money } from '@/api/client'
import { money, number } from '@/parts/format'
import { bars } from './bridge'
import type { Effect } from './books'

const props = defineProps<{
  before: Money
  after: Money
  beforeName: string
  afterName: string
  effects: { effect: string; amount: Money }[]
  chosen: Effect
}>()
const emit = defineEmits<{ choose: [effect: Effect] }>()
const shown = computed(() =>
  bars(
    number(props.before),
    props.effects.map((one) => number(one.amount)),
    number(props.after),
  ),
)
const short = (value: Money) => money(value, true)
</script>

<template>
  <div class="sheet px-3 pt-8 pb-2">
    <ol class="flex h-[178px] items-stretch" aria-label="What the change is made of">
      <li class="relative flex-1">
        <span class="absolute inset-x-0 text-center text-xs font-bold" :style="{ top: `calc(${shown[0]!.top}% - 19px)` }">{{
          money(before)
        }}</span>
        <span class="absolute inset-x-[22%] bg-asphalt-2" :style="{ top: `${shown[0]!.top}%`, height: `${shown[0]!.height}%` }" />
      </li>
      <li v-for="(one, n) in effects" :key="one.effect" class="relative flex-1">
        <span
          aria-hidden="true"
          class="absolute -left-[28%] w-[56%] border-t border-dotted border-faint"
          :style="{ top: `${shown[n]!.level}%` }"
        />
        <button
          type="button"
          class="absolute inset-0 rounded hover:bg-shade"
          :aria-pressed="chosen === one.effect"
          :aria-label="`${one.effect}: ${short(one.amount)}`"
          @click="emit('choose', one.effect as Effect)"
        >
          <span
            class="absolute inset-x-0 text-center text-xs"
            :class="chosen === one.effect ? 'font-bold' : ''"
            :style="{ top: `calc(${shown[n + 1]!.top}% - 19px)` }"
            >{{ short(one.amount) }}</span><span
            class="absolute inset-x-[14%]"
            :class="[
              number(one.amount) < 0 ? 'bg-brick' : 'bg-pine',
              chosen === one.effect ? 'outline-2 outline-offset-1 outline-asphalt' : '',
            ]"
            :style="{ top: `${shown[n + 1]!.top}%`, height: `${shown[n + 1]!.height}%` }"
          />
        </button>
      </li>
      <li class="relative flex-1">
        <span class="absolute inset-x-0 text-center text-xs font-bold" :style="{ top: `calc(${shown.at(-1)!.top}% - 19px)` }">{{
          money(after)
        }}</span>
        <span class="absolute inset-x-[22%] bg-asphalt-2" :style="{ top: `${shown.at(-1)!.top}%`, height: `${shown.at(-1)!.height}%` }" />
      </li>
    </ol>
    <div class="mt-1.5 flex text-center text-xs text-soft" aria-hidden="true">
      <span class="flex-1 text-ink">{{ beforeName }}</span><span
        v-for="one in effects"
        :key="one.effect"
        class="flex-1"
        :class="chosen === one.effect ? 'font-bold text-ink' : ''"
        >{{ one.effect }}</span
      ><span class="flex-1 text-ink">{{ afterName }}</span>
    </div>
  </div>
</template>
