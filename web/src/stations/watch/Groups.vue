<script setup lang="ts">
/** What was done, by what caused it: one line for 214 prices that followed one rise; approved, left or taken back as one. */
import { useQuery } from '@tanstack/vue-query'
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Empty from '@/parts/Empty.vue'
import Tag from '@/parts/Tag.vue'
import When from '@/parts/When.vue'
import { money, number, plural } from '@/parts/format'
import Sight from '@/parts/Sight.vue'
import { groupsQuery } from './queries'

type Group = Schema<'GroupOut'>
const emit = defineEmits<{ see: [query: Record<string, string>] }>()
const asked = useQuery(groupsQuery())
const { data } = asked
const VERBS: Record<string, [string, string]> = {
  reprice: ['price followed', 'prices followed'],
  quantity: ['quantity followed', 'quantities followed'],
  pause: ['listing paused', 'listings paused'],
  resume: ['listing came back', 'listings came back'],
  keep: ['price unchanged', 'prices unchanged'],
  hold: ['price waits', 'prices wait'],
  end: ['listing ended', 'listings ended'],
}
const message = (one: Group) => plural(one.count, ...(VERBS[one.kind] ?? ['response', 'responses']))
const how = (one: Group) =>
  [one.up && `${one.up} up`, one.down && `${one.down} down`, one.outcome === 4 && 'too many at once', one.item && one.item]
    .filter(Boolean)
    .join(', ')
const cause = (one: Group) => ({ sweep: one.sweep, act: one.act, kind: one.kind })
const settle = (one: Group, approve: boolean) =>
  act(() => take(api.POST('/api/v1/watch/groups/settle', { body: { ...cause(one), approve, many: one.outcome === 4 } })))
const undo = (one: Group) => act(() => take(api.POST('/api/v1/watch/groups/undo', { body: cause(one) })))
const TONE: Record<string, 'waits' | 'good' | 'plain' | 'info'> = { waits: 'waits', sent: 'good', kept: 'plain', undone: 'info' }
const see = (one: Group) =>
  emit('see', { ...(one.sweep ? { sweep: String(one.sweep) } : one.act ? { act: String(one.act) } : {}), state: '', kind: one.kind })
</script>

<template>
  <div class="sheet min-h-0 flex-1 overflow-auto">
    <Sight :of="asked" />
    <table v-if="data?.length" class="w-full">
      <thead class="sticky top-0 z-10 bg-sheet">
        <tr class="h-8 border-b border-rule text-2xs text-soft">
          <th class="px-3">When</th>
          <th class="px-3">What was done</th>
          <th class="px-3">By what</th>
          <th class="px-3 text-right" title="what the new prices bring more or less at the present pace">Prices, a day</th>
          <th class="px-3">State</th>
          <th class="px-3" />
        </tr>
      </thead>
      <tbody>
        <tr
          v-for="one in data"
          :key="`${one.sweep}-${one.act}-${one.kind}-${one.state}-${one.outcome}`"
          class="h-12 border-b border-rule-2"
        >
          <td class="px-3 font-mono text-xs text-soft"><When :at="one.at" clock /></td>
          <td class="px-3">
            <button type="button" class="block text-left font-bold hover:underline" @click="see(one)">{{ message(one) }}</button><span
              class="block max-w-64 truncate text-xs text-soft"
              :title="how(one)"
              >{{ how(one) }}</span
            >
          </td>
          <td class="px-3">
            <span class="block max-w-64 truncate" :title="one.cause">{{ one.cause }}</span>
          </td>
          <td class="px-3 text-right" :class="number(one.a_day) < 0 ? 'text-brick' : ''">
            {{ number(one.a_day) ? money(one.a_day, true) : '–' }}
          </td>
          <td class="px-3">
            <Tag :tone="TONE[one.state]">{{ one.state }}</Tag>
          </td>
          <td class="px-3 text-right whitespace-nowrap">
            <template v-if="one.state === 'waits'"
              ><Btn small kind="main" @click="settle(one, true)">{{ one.outcome === 4 ? 'Let them move' : 'Take the best price' }}</Btn
              ><Btn class="ml-1" small @click="settle(one, false)">Leave them</Btn></template
            ><Btn v-else-if="one.state === 'sent' && (one.sweep || one.act)" small @click="undo(one)"
              >Undo {{ one.count > 1 ? 'all' : 'it' }}</Btn
            >
          </td>
        </tr>
      </tbody>
    </table>
    <Empty v-else-if="data" title="Nothing was done yet" message="What sweeps and changes did stands here, one line for each cause." />
  </div>
</template>
