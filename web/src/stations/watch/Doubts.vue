<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { api, take } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Empty from '@/parts/Empty.vue'
import { money } from '@/parts/format'
import Sight from '@/parts/Sight.vue'
import { doubtsQuery } from './queries'

const asked = useQuery(doubtsQuery())
const { data } = asked
const settle = (item: number, believe: boolean) =>
  act(() => take(api.POST('/api/v1/watch/doubts/{item}', { params: { path: { item } }, body: { believe } })))
</script>

<template>
  <div class="sheet min-h-0 flex-1 overflow-auto">
    <Sight :of="asked" />
    <table v-if="data?.length" class="w-full">
      <thead class="sticky top-0 bg-sheet">
        <tr class="h-8 border-b border-rule text-2xs text-soft">
          <th class="px-3">Item</th>
          <th class="px-3 text-right">Last good cost</th>
          <th class="px-3 text-right">Seen</th>
          <th class="px-3 text-right">Stock</th>
          <th class="px-3">So far</th>
          <th />
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in data" :key="one.item_id" class="h-11 border-b border-rule-2">
          <td class="px-3">
            <RouterLink class="block max-w-72 truncate font-bold hover:underline" :title="one.title" :to="`/item/${one.item_id}`">{{
              one.title
            }}</RouterLink><span class="code text-soft">{{ one.number }}</span>
            <span class="ml-1 text-xs text-soft">{{ one.supplier }}</span>
          </td>
          <td class="px-3 text-right">{{ money(one.cost) }}</td>
          <td class="px-3 text-right font-bold text-amber-ink">{{ money(one.seen_cost) }}</td>
          <td class="px-3 text-right">{{ one.seen_stock }}</td>
          <td class="px-3 text-soft">
            {{ one.seen_again > 1 ? `seen again ${one.seen_again} times` : one.seen_again ? 'seen again once' : 'seen once' }}
          </td>
          <td class="px-3 text-right whitespace-nowrap">
            <Btn small kind="main" @click="settle(one.item_id, false)">Keep {{ money(one.cost) }}</Btn>
            <Btn class="ml-1" small @click="settle(one.item_id, true)">Use the new cost</Btn>
          </td>
        </tr>
      </tbody>
    </table>
    <Empty
      v-else-if="data"
      title="Nothing is in doubt"
      message="A price that moves too far at once waits here until it is seen again, or until you say."
    />
  </div>
</template>
