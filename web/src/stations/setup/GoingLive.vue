<script setup lang="ts">
/** Turning on what goes out to a store: what would go at once is looked at first. */
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import Sight from '@/parts/Sight.vue'
import { count, money, plural, percent } from '@/parts/format'
import { goingLiveQuery } from './queries'

const props = defineProps<{ store: Schema<'PartnerOut'>; what: 'prices' | 'stock' | 'orders' }>()
const emit = defineEmits<{ close: [] }>()
const path = computed(() => ({ number: props.store.id, what: props.what }))
const asked = useQuery(computed(() => ({ ...goingLiveQuery(props.store.id, props.what), gcTime: 0 })))
const { data } = asked
const TITLES = { prices: 'Write prices to', stock: 'Write stock to', orders: 'Buy the orders of' }
const n = (name: string) => data.value?.counts[name] ?? 0
const going = computed(() =>
  props.what === 'prices' ? n('rise') + n('fall') : props.what === 'stock' ? n('quantity') + n('pause') + n('resume') : n('orders'),
)
/** Each figure with what it means; the ones that hurt are marked. */
const figures = computed<[string, number, boolean][]>(() =>
  props.what === 'prices'
    ? [
        ['would rise', n('rise'), false],
        ['would fall', n('fall'), false],
        ['move by more than 10 %', n('over_tenth'), true],
        ['would be below cost', n('below_cost'), true],
        ['are below cost now', n('below_cost_now'), true],
        ['would wait for you', n('waits'), false],
        ['have no price rule', n('no_rule'), false],
        ['have no known cost', n('no_cost'), false],
      ]
    : props.what === 'stock'
      ? [
          ['would show another quantity', n('quantity'), false],
          ['would come off sale', n('pause'), true],
          ['would come back on sale', n('resume'), false],
          ['show more than there is now', n('over_stock_now'), true],
          ['have no lane, and stay as they are', n('no_lane'), false],
        ]
      : [
          ['would be bought', n('orders'), false],
          ['of them would lose money', n('loses'), true],
          ['wait for another reason', n('held'), false],
        ],
)
const heads = computed(() =>
  props.what === 'prices'
    ? ['Now', 'Then', 'Change', 'Profit a unit']
    : props.what === 'stock'
      ? ['Shows now', 'Then', '', '']
      : ['Paid', 'Costs', '', 'Profit'],
)
async function turn(start: boolean) {
  const done = await act(() =>
    take(
      api.POST('/api/v1/setup/stores/{number}/out/{what}', {
        params: { path: path.value },
        body: { version: data.value!.version, start, seen: data.value!.counts },
      }),
    ),
  )
  if (done) emit('close')
  else void asked.refetch()
}
</script>

<template>
  <Modal
    open
    wide
    :title="`${TITLES[what]} ${store.name}`"
    message="Nothing has gone out yet. This is what would go at once."
    @close="emit('close')"
  >
    <Sight v-if="!data" :of="asked" :lines="6" />
    <template v-else>
      <p class="mb-3">
        <template v-if="what === 'orders'"
          ><b>{{ plural(n('orders'), 'order') }}</b> {{ n('orders') === 1 ? 'waits' : 'wait' }}, paid {{ money(data.paid) }}; buying
          {{ n('orders') === 1 ? 'it' : 'them' }} costs {{ money(data.cost) }}.</template
        ><template v-else
          >Of <b>{{ plural(n('listings'), 'listing') }}</b>, <b>{{ count(going) }}</b> would change at once.</template
        >
      </p>
      <dl class="mb-3 grid grid-cols-2 gap-x-8 gap-y-1 sm:grid-cols-3">
        <div v-for="[message, value, bad] in figures.filter((one) => one[1])" :key="message" class="flex items-baseline gap-2">
          <dt class="order-2 text-soft">{{ message }}</dt>
          <dd class="min-w-10 text-right font-bold tabular-nums" :class="bad ? 'text-brick' : ''">{{ count(value) }}</dd>
        </div>
      </dl>
      <table v-if="data.worst.length" class="w-full text-sm">
        <caption class="mb-1 text-left text-xs text-soft">
          {{
            data.worst.length < going ? `The ${data.worst.length} worst` : 'All of them'
          }}
        </caption>
        <thead>
          <tr class="border-b border-rule text-left text-xs text-soft">
            <th class="py-1 font-normal">{{ what === 'orders' ? 'Order' : 'Listing' }}</th>
            <th v-for="(head, at) in heads" :key="at" class="py-1 pl-3 text-right font-normal">{{ head }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in data.worst" :key="one.id" class="border-b border-rule-2 last:border-0">
            <td class="max-w-0 truncate py-1" :title="one.title">
              <span class="code mr-2 text-soft">{{ one.code }}</span>{{ one.title }}
            </td>
            <td class="w-24 pl-3 text-right tabular-nums">
              {{ what === 'stock' ? one.old : money({ amount: one.old, currency: data.currency }) }}
            </td>
            <td class="w-24 pl-3 text-right tabular-nums">
              {{ what === 'stock' ? one.new : money({ amount: one.new, currency: data.currency }) }}
            </td>
            <td class="w-28 pl-3 text-right text-xs tabular-nums" :class="Math.abs(one.percent ?? 0) > 10 ? 'text-brick' : 'text-soft'">
              {{ one.message || (one.percent === null ? '' : `${one.percent > 0 ? '+' : ''}${percent(one.percent)}`) }}
            </td>
            <td class="w-24 pl-3 text-right tabular-nums" :class="Number(one.profit?.amount) < 0 ? 'text-brick' : ''">
              {{ what === 'stock' ? '' : money(one.profit) }}
            </td>
          </tr>
        </tbody>
      </table>
      <p v-if="what === 'prices' && n('no_rule')" class="mt-3 text-soft">
        Where no price rule applies no price is made; the listing keeps its own.
      </p>
      <p v-if="what !== 'orders' && going" class="mt-3 text-soft">
        “Only from the next change on” leaves each of them as the store shows it until its
        {{ what === 'prices' ? 'cost or rule' : 'stock' }} changes.
      </p>
    </template>
    <template #acts
      ><Btn @click="emit('close')">Not yet</Btn
      ><template v-if="data"
        ><Btn v-if="going" @click="turn(false)">{{
          what === 'orders' ? 'Only orders that come from now on' : 'Only from the next change on'
        }}</Btn
        ><Btn kind="main" @click="turn(true)">{{ going ? 'Start with these' : 'Turn it on' }}</Btn></template
      ></template
    >
  </Modal>
</template>
