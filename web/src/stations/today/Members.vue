<script setup lang="ts">
/** What a row of Today stands for, each with its own step; some of them can be chosen and settled at once. */
import { computed, ref, watch } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import { money, number, count } from '@/parts/format'

const props = defineProps<{ row: Schema<'AlertOut'> }>()
const chosen = ref<string[]>([])
watch(
  () => props.row.members,
  (now) => (chosen.value = chosen.value.filter((key) => now.some((one) => one.key === key))),
)
/** Members of a cause are settled many at once; those of one group of changes, each by its own key. */
const many = computed(() => props.row.key.startsWith('cause:') && (props.row.step.act || props.row.other?.act))
const settle = (keys: string[], other: boolean) =>
  act(() =>
    take(api.POST('/api/v1/today/step', { body: many.value ? { key: props.row.key, other, keys } : { key: keys[0]!, other } })),
  ).then((worked) => worked && (chosen.value = []))
const label = (way: { label: string }, n: number) => way.label.replace(/ (both|(all )?[\d,]+)/, n > 1 ? ` ${n}` : '')
</script>

<template>
  <div class="mt-2 rounded border border-rule bg-sheet">
    <div v-if="many" class="flex items-center gap-2 border-b border-rule-2 px-2.5 py-1">
      <span class="text-xs text-soft">{{ chosen.length ? `${chosen.length} chosen` : 'choose some, or settle each' }}</span>
      <template v-if="chosen.length">
        <Btn v-if="row.step.act" small @click="settle(chosen, false)">{{ label(row.step, chosen.length) }}</Btn>
        <Btn v-if="row.other?.act" small @click="settle(chosen, true)">{{ label(row.other, chosen.length) }}</Btn>
      </template>
    </div>
    <ul class="max-h-72 overflow-auto" :aria-label="`What this is made of, ${row.members.length + row.more_members}`">
      <li v-for="one in row.members" :key="one.key" class="flex items-center gap-2.5 border-b border-rule-2 px-2.5 py-1 last:border-0">
        <input
          v-if="many"
          v-model="chosen"
          type="checkbox"
          class="size-3.5 shrink-0 accent-pine"
          :value="one.key"
          :aria-label="`Choose ${one.name}`"
        />
        <span class="min-w-0 flex-1"
          ><span class="block truncate" :title="one.name">{{ one.name }}</span
          ><span class="block truncate text-xs text-soft" :title="one.message">{{ one.message }}</span></span
        >
        <span v-if="number(one.at_risk)" class="shrink-0 font-semibold">{{ money(one.at_risk) }}</span>
        <RouterLink v-if="one.go" class="shrink-0 text-xs font-semibold text-slate hover:underline" :to="one.go">See it</RouterLink>
        <Btn v-if="row.step.act" small kind="link" @click="settle([one.key], false)">{{ label(row.step, 1) }}</Btn>
        <Btn v-if="many && row.other?.act" small kind="link" @click="settle([one.key], true)">{{ label(row.other, 1) }}</Btn>
      </li>
    </ul>
    <p v-if="row.more_members" class="px-2.5 py-1 text-xs text-soft">and {{ count(row.more_members) }} more, settled with all</p>
  </div>
</template>
