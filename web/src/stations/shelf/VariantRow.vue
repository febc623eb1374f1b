<script setup lang="ts">
/** One combination: what fills it, what it costs and sells for, how many show. */
import { computed } from 'vue'
import type { Schema } from '@/api/client'
import Tag from '@/parts/Tag.vue'
import { count, inField, money } from '@/parts/format'
import { differs, draftOf, type Draft } from './variants'

const props = defineProps<{
  row: Schema<'CombinationOut'>
  draft: Draft
  items: Schema<'ChoiceOut'>[]
  pictures: number[]
  chosen: boolean
}>()
const emit = defineEmits<{ choose: [] }>()
// The row shows a draft that its page owns; both see each change.
const one = computed(() => props.draft)
const item = computed(() => props.items.find((choice) => choice.id === one.value.item) ?? null)
const moved = computed(() => one.value.item !== props.row.item)
const price = computed(() => (moved.value || !props.row.part || props.row.by_hand ? item.value?.price : props.row.price) ?? null)
const keeps = computed(() => (one.value.price ? null : ((moved.value || !props.row.part ? item.value?.profit : props.row.profit) ?? null)))
const name = computed(() => props.row.values.join(', '))
const STANDS: Record<string, string> = { preparing: 'in preparation', live: 'on sale', paused: 'paused', ended: 'ended' }
const does = computed(() => {
  if (!one.value.kept)
    return props.row.part ? { message: props.row.state === 'preparing' ? 'left out' : 'ends', tone: 'loss' as const } : null
  if (!props.row.part) return one.value.item ? { message: 'made', tone: 'good' as const } : { message: 'no item', tone: 'waits' as const }
  return differs(one.value, draftOf(props.row, false)) ? { message: 'changed', tone: 'info' as const } : null
})
</script>

<template>
  <tr class="h-10 border-b border-rule-2 last:border-0" :class="one.kept ? '' : 'text-soft'">
    <td class="px-2">
      <input type="checkbox" class="align-middle accent-pine" :checked="chosen" :aria-label="`Choose ${name}`" @change="emit('choose')" />
    </td>
    <td class="truncate">
      <b class="block truncate" :class="one.kept ? '' : 'font-normal line-through'" :title="name">{{ name }}</b><span
        class="cell-2 block truncate"
        ><span v-if="row.sku" class="code">{{ row.sku }}</span
        ><span v-if="row.state" class="ml-1.5">{{ STANDS[row.state] }}</span></span
      >
    </td>
    <td class="pr-2">
      <select v-model="one.item" class="field w-full! truncate" :disabled="!one.kept" :aria-label="`Item of ${name}`">
        <option :value="null">none</option>
        <option v-for="choice in items" :key="choice.id" :value="choice.id">
          {{ choice.number }} · {{ choice.options || choice.title }}
        </option>
      </select>
    </td>
    <td class="px-2 text-right">{{ money(item?.cost) }}</td>
    <td class="px-2 text-right">{{ money(item?.lands) }}</td>
    <td class="px-2">
      <input
        v-model="one.price"
        class="field w-full! px-1.5! text-right"
        :class="one.price ? 'font-bold' : ''"
        inputmode="decimal"
        maxlength="12"
        :placeholder="price ? inField(price.amount) : 'by rule'"
        :disabled="!one.kept"
        :title="one.price ? 'by hand' : 'by the rule'"
        :aria-label="`Price of ${name}; empty for the rule's`"
      />
    </td>
    <td class="px-2 text-right">{{ keeps ? money(keeps) : '' }}</td>
    <td class="px-2 text-right" :class="item && item.stock === 0 ? 'text-brick' : ''">
      {{ item ? (item.stock < 0 ? 'not told' : count(item.stock)) : '' }}
    </td>
    <td class="px-2">
      <input
        v-model="one.most"
        class="field w-full! px-1.5! text-right"
        inputmode="numeric"
        maxlength="7"
        placeholder="no limit"
        :disabled="!one.kept"
        :aria-label="`Most shown of ${name}`"
        @input="one.most = one.most.replace(/\D/g, '')"
      />
    </td>
    <td v-if="pictures.length" class="px-2">
      <select v-model="one.picture" class="field w-full! px-1!" :disabled="!one.kept" :aria-label="`First picture of ${name}`">
        <option :value="null">–</option>
        <option v-for="(picture, at) in pictures" :key="picture" :value="picture">{{ at + 1 }}</option>
      </select>
    </td>
    <td class="px-2">
      <span class="flex items-center justify-between"
        ><Tag v-if="does" :tone="does.tone">{{ does.message }}</Tag
        ><span v-else class="text-soft">{{ one.kept ? 'stays' : '–' }}</span
        ><button
          type="button"
          class="whitespace-nowrap text-slate hover:underline"
          :aria-label="one.kept ? `Leave out ${name}` : `Include ${name}`"
          @click="one.kept = !one.kept"
        >
          {{ one.kept ? 'leave out' : 'include' }}
        </button></span
      >
    </td>
  </tr>
</template>
