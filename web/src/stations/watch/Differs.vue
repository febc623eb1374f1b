<script setup lang="ts">
/** What stores show otherwise than we asked, found by reading their own listings once a day. */
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Empty from '@/parts/Empty.vue'
import { money, plural } from '@/parts/format'
import Sight from '@/parts/Sight.vue'
import { differencesQuery } from './queries'

type Row = Schema<'DriftOut'>
const asked = useQuery(differencesQuery())
const { data } = asked
const picked = ref(new Set<number>())
watch(data, (now) => (picked.value = new Set((now ?? []).map((one) => one.id).filter((id) => picked.value.has(id)))))
const STATES: Record<string, string> = { live: 'on sale', paused: 'off sale', ended: 'ended', missing: 'not there' }
const say = (price: Row['ours'], quantity: number, state: string) =>
  state === 'live' ? `${money(price)}, shows ${quantity}` : (STATES[state] ?? state)
const settle = (ids: number[], ours: boolean) =>
  act(() => take(api.POST('/api/v1/watch/differences/settle', { body: { differences: ids, ours } })))
const check = () => act(() => take(api.POST('/api/v1/watch/differences/check')))
const ids = computed(() => (picked.value.size ? [...picked.value] : (data.value ?? []).map((one) => one.id)))
function toggle(id: number) {
  const next = new Set(picked.value)
  if (!next.delete(id)) next.add(id)
  picked.value = next
}
</script>

<template>
  <div class="flex min-h-0 flex-1 flex-col gap-3">
    <div class="flex items-center gap-2">
      <p class="text-soft">
        Each store's own listings are read once a day and laid beside what we asked. Fewer units than we asked is no difference: buyers took
        some.
      </p>
      <span class="ml-auto" /><Btn small @click="check">Read the stores now</Btn>
      <template v-if="data?.length"
        ><Btn small @click="settle(ids, false)">Take theirs</Btn
        ><Btn small kind="main" @click="settle(ids, true)">Send ours again, {{ plural(ids.length, 'listing') }}</Btn></template
      >
    </div>
    <div class="sheet min-h-0 flex-1 overflow-auto">
      <Sight :of="asked" />
      <table v-if="data?.length" class="w-full">
        <thead class="sticky top-0 bg-sheet">
          <tr class="h-8 border-b border-rule text-2xs text-soft">
            <th class="w-9" />
            <th class="px-3">Listing</th>
            <th class="px-3">Store</th>
            <th class="px-3">We asked</th>
            <th class="px-3">It shows</th>
            <th />
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in data" :key="one.id" class="h-11 border-b border-rule-2">
            <td class="pl-3">
              <input
                type="checkbox"
                class="size-3.5 accent-pine align-middle"
                :checked="picked.has(one.id)"
                :aria-label="`Choose ${one.sku}`"
                @change="toggle(one.id)"
              />
            </td>
            <td class="px-3">
              <b class="block max-w-72 truncate" :title="one.title">{{ one.title }}</b><span class="code text-soft">{{ one.sku }}</span>
            </td>
            <td class="px-3">{{ one.store }}</td>
            <td class="px-3">{{ say(one.ours, one.our_quantity, one.our_state) }}</td>
            <td class="px-3 font-bold text-amber-ink">{{ say(one.theirs, one.their_quantity, one.their_state) }}</td>
            <td class="px-3 text-right whitespace-nowrap">
              <Btn small kind="main" @click="settle([one.id], true)">Send ours again</Btn
              ><Btn class="ml-1" small @click="settle([one.id], false)">Take theirs</Btn>
            </td>
          </tr>
        </tbody>
      </table>
      <Empty
        v-else-if="data"
        title="All stores show what we asked"
        message="Where somebody changes a listing in the store itself, it stands here."
      />
    </div>
  </div>
</template>
