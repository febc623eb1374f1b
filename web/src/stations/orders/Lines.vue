<script setup lang="ts">
/** The lines of an order, what each was paid and leaves; some of them can be cancelled, in part, or sent first. */
import { computed, reactive, ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Tag from '@/parts/Tag.vue'
import OpenCase from '@/stations/transit/OpenCase.vue'
import { STATE_WORDS, money, plural } from '@/parts/format'

const props = defineProps<{ order: Schema<'OrderOut'>; open: boolean }>()
const CLAIMABLE = ['with_supplier', 'on_the_road', 'arrived']
const opening = ref(0)
const FREE = ['new', 'needs_lane', 'held', 'ready', 'refused']
const path = { params: { path: { number: props.order.id } } }
const chosen = ref<number[]>([])
const units = reactive<Record<number, number>>({})
const free = computed(() => props.order.lines.filter((one) => FREE.includes(one.state)))
/** With one line of one piece there is nothing to take apart. */
const apart = computed(() => props.open && (props.order.lines.length > 1 || free.value.some((one) => one.quantity > 1)))
const asked = computed(() => free.value.filter((one) => chosen.value.includes(one.id)))
const pieces = computed(() => asked.value.reduce((sum, one) => sum + (units[one.id] ?? one.quantity), 0))
const cancel = () =>
  act(() =>
    take(
      api.POST('/api/v1/orders/{number}/cancel-lines', {
        ...path,
        body: {
          reason: '',
          lines: asked.value.map((one) => ({ line: one.id, units: (units[one.id] ?? one.quantity) < one.quantity ? units[one.id] : null })),
        },
      }),
    ),
  ).then((worked) => worked && (chosen.value = []))
const part = () =>
  act(() => take(api.POST('/api/v1/orders/{number}/part', { ...path, body: { lines: asked.value.map((one) => one.id) } }))).then(
    (worked) => worked && (chosen.value = []),
  )
</script>

<template>
  <table class="w-full">
    <thead>
      <tr class="h-7 text-2xs text-soft">
        <th v-if="apart" class="w-8"><span class="sr-only">Chosen</span></th>
        <th class="px-3.5">
          {{ order.gone && order.gone < order.lines.length ? `${order.gone} of ${plural(order.lines.length, 'line')} sent` : 'Line' }}
        </th>
        <th class="px-2 text-right">Paid</th>
        <th class="px-2 text-right">Tax</th>
        <th class="px-2 text-right">Store fee</th>
        <th class="px-2 text-right">Payment</th>
        <th class="px-2 text-right">Net revenue</th>
        <th class="px-3.5">State</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="one in order.lines" :key="one.id" class="h-8 border-t border-rule-2">
        <td v-if="apart" class="pl-3.5">
          <input
            v-if="FREE.includes(one.state)"
            v-model="chosen"
            type="checkbox"
            class="size-3.5 accent-pine align-middle"
            :value="one.id"
            :aria-label="`Choose line ${one.line_no}`"
          />
        </td>
        <td class="max-w-0 truncate px-3.5" style="width: 46%" :title="one.title">
          <input
            v-if="chosen.includes(one.id) && one.quantity > 1"
            v-model.number="units[one.id]"
            type="number"
            min="1"
            :max="one.quantity"
            :placeholder="String(one.quantity)"
            class="field mr-1 h-6! w-16!"
            :aria-label="`Units of line ${one.line_no}`"
          /><b>{{ chosen.includes(one.id) && one.quantity > 1 ? `of ${one.quantity}` : `${one.quantity} ×` }}</b> {{ one.title || one.sku }}
          <span class="code text-soft">{{ one.sku }}</span>
        </td>
        <td class="px-2 text-right">{{ money(one.paid) }}</td>
        <td class="px-2 text-right">{{ money(one.tax) }}</td>
        <td class="px-2 text-right">{{ money(one.store_fee) }}</td>
        <td class="px-2 text-right">{{ money(one.payment_fee) }}</td>
        <td class="px-2 text-right font-semibold">
          {{ money(one.kept) }}<span v-if="one.refunded" class="cell-2 block font-normal">{{ money(one.refunded) }} paid back</span>
        </td>
        <td class="px-3.5 whitespace-nowrap">
          <Tag :tone="['needs_lane', 'held', 'refused'].includes(one.state) ? 'waits' : one.state === 'arrived' ? 'good' : 'plain'">{{
            STATE_WORDS[one.state]
          }}</Tag>
          <span v-if="one.state === 'refused'" class="ml-1 text-xs text-soft">{{ one.reason }}</span><span
            v-if="one.packs"
            class="ml-1 text-xs text-amber-ink"
            :title="one.packs"
            >whole packs</span
          ><Btn
            v-if="CLAIMABLE.includes(one.state)"
            small
            kind="link"
            :aria-label="`Open a case for line ${one.line_no}`"
            @click="opening = one.id"
            >Open a case</Btn
          >
        </td>
      </tr>
    </tbody>
  </table>
  <div v-if="apart && asked.length" class="flex items-center gap-2 border-t border-rule-2 bg-shade px-3.5 py-1.5">
    <span class="text-xs text-soft">{{ plural(asked.length, 'line') }} chosen</span>
    <Btn v-if="asked.length < free.length" small @click="part">Send {{ asked.length === 1 ? 'it' : 'these' }} first</Btn>
    <Btn small kind="loss" @click="cancel">Cancel {{ plural(pieces, 'piece') }} and refund</Btn>
    <span class="text-xs text-soft">cancelling cannot be undone</span>
  </div>
  <OpenCase v-if="opening" :line="opening" reason="damaged" @close="opening = 0" />
</template>
