<script setup lang="ts">
/** The items that might fill a SKU, beside each other: what agrees, units, landed cost, stock, margin, likeness. */
import type { Schema } from '@/api/client'
import { may } from '@/app/may'
import LikenessBar from '@/parts/LikenessBar.vue'
import MarkedTitle from '@/parts/MarkedTitle.vue'
import Tag from '@/parts/Tag.vue'
import { count, marginOf, money, percent } from '@/parts/format'

defineProps<{ rows: Schema<'OfferOut'>[]; cursor: number }>()
const emit = defineEmits<{ move: [place: number]; open: [one: Schema<'OfferOut'>] }>()
const stock = (one: Schema<'OfferOut'>) =>
  one.offer === 'gone' ? 'gone' : one.makes === null || one.makes === undefined ? '?' : count(one.makes)
</script>

<template>
  <table class="w-full table-fixed">
    <colgroup>
      <col class="w-[38px]" />
      <col />
      <col class="w-[27%] max-[1180px]:w-[23%]" />
      <col class="w-[58px] max-[1180px]:w-[48px]" />
      <col v-if="may('see money')" class="w-[74px] max-[1180px]:w-[64px]" />
      <col class="w-[66px] max-[1180px]:w-[58px]" />
      <col v-if="may('see money')" class="w-[68px] max-[1180px]:w-[60px]" />
      <col class="w-[92px] max-[1180px]:w-[84px]" />
    </colgroup>
    <thead>
      <tr class="h-8 border-b border-rule text-2xs text-soft">
        <th><span class="sr-only">Key</span></th>
        <th class="px-2">Which supplier item fills it?</th>
        <th class="px-2">What agrees, what does not</th>
        <th class="px-2 text-right">Units</th>
        <th v-if="may('see money')" class="px-2 text-right">Landed</th>
        <th class="px-2 text-right">Can fill</th>
        <th v-if="may('see money')" class="px-2 text-right">Margin</th>
        <th class="px-3 text-right">Likeness</th>
      </tr>
    </thead>
    <tbody>
      <tr
        v-for="(one, n) in rows"
        :key="one.item_id"
        class="h-12 border-b border-rule-2"
        :class="cursor === n ? 'bg-shade' : 'hover:bg-shade/60'"
        :aria-selected="cursor === n"
        @click="emit('move', n)"
        @dblclick="emit('open', one)"
      >
        <td class="relative pl-2.5">
          <span v-if="cursor === n" class="absolute inset-y-0 left-0 w-[3px] bg-asphalt" aria-hidden="true" /><kbd
            class="rounded border border-faint px-1 font-mono text-2xs"
            >{{ n + 1 }}</kbd
          >
        </td>
        <td class="px-2 py-1.5">
          <b class="line-clamp-2"><MarkedTitle :title="one.title" :marks="one.marks" /></b
          ><span class="cell-2 block truncate"
            ><span class="code">{{ one.number }}</span> {{ one.supplier }}, {{ one.origin }}</span
          >
        </td>
        <td class="px-2 py-1.5">
          <span class="flex flex-wrap gap-1"
            ><Tag v-if="one.lane" tone="info">{{ one.lane_state === 'shut' ? 'its lane, shut' : 'its lane' }}</Tag
            ><Tag v-for="text in one.differs.slice(0, 2)" :key="text" tone="loss" class="max-w-full truncate" :title="text">{{ text }}</Tag
            ><Tag
              v-for="text in one.agrees.slice(0, one.differs.length > 1 || one.lane ? 0 : one.differs.length ? 1 : 2)"
              :key="text"
              tone="good"
              class="max-w-full truncate"
              :title="text"
              >{{ text }}</Tag
            ><Tag v-if="one.doubt" class="max-w-full truncate" :title="one.doubt">{{ one.doubt }}</Tag></span
          >
        </td>
        <td class="px-2 text-right whitespace-nowrap" :class="one.units === '1' ? '' : 'font-semibold'">{{ one.units }}</td>
        <td v-if="may('see money')" class="px-2 text-right whitespace-nowrap" :title="one.reason_not">
          <b v-if="one.landed">{{ money(one.landed) }}</b><span v-else class="text-2xs text-brick whitespace-normal">{{
            one.reason_not
          }}</span>
        </td>
        <td class="px-2 text-right" :class="one.makes === 0 ? 'text-brick' : ''">{{ stock(one) }}</td>
        <td
          v-if="may('see money')"
          class="px-2 text-right whitespace-nowrap"
          :class="(marginOf(one.profit, one.net) ?? 0) < 0 ? 'text-brick' : ''"
          title="at today’s price"
        >
          {{ percent(marginOf(one.profit, one.net), 0) }}
        </td>
        <td class="px-3 text-right"><LikenessBar :score="one.score" :decision="one.decision" /></td>
      </tr>
    </tbody>
  </table>
</template>
