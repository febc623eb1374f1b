<script setup lang="ts">
/** What a draft would do to the whole catalogue: counts, margins before and after, and the prices that move most. */
import { computed } from 'vue'
import type { Schema } from '@/api/client'
import Empty from './Empty.vue'
import Histogram from './Histogram.vue'
import Tag from './Tag.vue'
import { money, number, percent, count as whole } from './format'
import LeftOut from './LeftOut.vue'

const props = defineProps<{ view: Schema<'WhatIfOut'>; draft: boolean; left?: Set<number>; picked?: Set<number> }>()
const emit = defineEmits<{ toggle: [listing: number] }>()
const count = (name: string) => props.view.counts[name] ?? 0
const say = (name: string) => whole(count(name))
const moves = computed(() => props.view.movers.filter((one) => one.now.amount !== one.then.amount))
const held = computed(() => props.view.movers.filter((one) => one.now.amount === one.then.amount))
const total = computed(() => count('rise') + count('fall'))
</script>

<template>
  <div>
    <p class="flex flex-wrap gap-x-7 gap-y-1 text-soft">
      <span
        ><b class="text-lg text-ink">{{ say('rise') }}</b> prices rise</span
      ><span
        ><b class="text-lg text-ink">{{ say('fall') }}</b> fall</span
      ><span v-if="count('ceiling')"
        ><b class="text-lg text-ink">{{ say('ceiling') }}</b> hit a ceiling</span
      ><span v-if="count('step')"
        ><b class="text-lg text-ink">{{ say('step') }}</b> limited to one step</span
      ><span v-if="count('floor')"
        ><b class="text-lg text-amber-ink">{{ say('floor') }}</b> under a limit of yours, they wait</span
      ><span v-if="count('loss')"
        ><b class="text-lg text-brick">{{ say('loss') }}</b> lose money</span
      ><span v-if="count('practice')" title="Prices of their stores are not written yet: Settings, Stores and suppliers"
        ><b class="text-lg text-ink">{{ say('practice') }}</b> only seen here, their store gets no prices yet</span
      ><span v-if="count('dips')"
        ><b class="text-lg text-amber-ink">{{ say('dips') }}</b> where a dearer item is cheaper</span
      ><span v-if="count('pause')"
        ><b class="text-lg text-ink">{{ say('pause') }}</b> pause</span
      ><span v-if="count('resume')"
        ><b class="text-lg text-ink">{{ say('resume') }}</b> come back</span
      ><span
        ><b class="text-lg" :class="number(view.a_day) < 0 ? 'text-brick' : number(view.a_day) > 0 ? 'text-pine' : 'text-ink'">{{
          money(view.a_day, true)
        }}</b>
        a day, which then earns <b class="text-ink">{{ money(view.earns) }}</b> at today's pace</span
      >
    </p>
    <LeftOut :of="view.left_out" />
    <div class="sheet mt-3 p-3.5"><Histogram :bins="view.bins" :now="view.now" :then="view.then" :draft="draft" /></div>
    <div class="sheet mt-3 overflow-hidden">
      <table v-if="moves.length || held.length" class="w-full">
        <thead>
          <tr class="h-8 border-b border-rule text-2xs text-soft">
            <th v-if="left" class="w-9" />
            <th class="px-2">Moves most</th>
            <th class="px-2 text-right">Now</th>
            <th class="px-2 text-right">Then</th>
            <th class="px-2 text-right">Step</th>
            <th class="px-2 text-right">Margin</th>
            <th class="px-3">Set by</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in moves.slice(0, 100)" :key="one.listing" class="h-11 border-b border-rule-2">
            <td v-if="left" class="pl-3">
              <input
                type="checkbox"
                class="size-3.5 accent-pine align-middle"
                :checked="picked ? picked.has(one.listing) : !left.has(one.listing)"
                :aria-label="`Apply to ${one.sku}`"
                @change="emit('toggle', one.listing)"
              />
            </td>
            <td class="px-2">
              <RouterLink
                class="block max-w-72 truncate hover:underline"
                :title="one.title"
                :to="{ path: '/price', query: { view: 'listings', words: one.sku } }"
                ><b>{{ one.title }}</b></RouterLink
              ><span class="code text-soft">{{ one.sku }}</span>
            </td>
            <td class="px-2 text-right">{{ money(one.now) }}</td>
            <td class="px-2 text-right font-bold">{{ money(one.then) }}</td>
            <td class="px-2 text-right">{{ one.step > 0 ? '+' : '' }}{{ percent(one.step) }}</td>
            <td class="px-2 text-right whitespace-nowrap">{{ percent(one.margin_now) }} → {{ percent(one.margin_then) }}</td>
            <td class="px-3">
              <Tag :tone="one.set_by === 'step' || one.set_by === 'ceiling' ? 'waits' : 'plain'">{{ one.set_by.replace('_', ' ') }}</Tag>
            </td>
          </tr>
          <tr v-for="one in held.slice(0, 40)" :key="one.listing" class="h-11 border-b border-rule-2">
            <td v-if="left" />
            <td class="px-2">
              <b class="block max-w-72 truncate" :title="one.title">{{ one.title }}</b><span class="code text-soft">{{ one.sku }}</span>
            </td>
            <td class="px-2 text-right">{{ money(one.now) }}</td>
            <td class="px-2 text-right text-soft" colspan="3">the old price stands and waits for you</td>
            <td class="px-3">
              <Tag tone="waits">{{ one.set_by.replace('_', ' ') }}</Tag>
            </td>
          </tr>
        </tbody>
      </table>
      <Empty
        v-else
        title="No price would move"
        :message="draft ? 'The draft changes no price at today\'s costs.' : 'All prices are what the rules ask for.'"
      />
    </div>
    <p v-if="moves.length > 100" class="mt-2 text-soft">
      The hundred largest of {{ whole(total) }}{{ picked ? '; only those that you pick are applied.' : '; all are applied.' }}
    </p>
  </div>
</template>
