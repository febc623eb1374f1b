<script setup lang="ts">
/** What can be sold of a design and what not, who prints it, and what it costs and leaves. */
import { computed, ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import { count, money, percent, plural } from '@/parts/format'
import type { Design } from './print'

const props = defineProps<{ of: Design; colour: Schema<'PrintColour'>; stores: Schema<'ShelfStore'>[]; store: number }>()
const emit = defineEmits<{
  store: [id: number]
  change: [body: Partial<Schema<'DesignChangeAsk'>>]
  version: [colour: string]
  begun: [job: number]
}>()
const good = computed(() => props.of.colours.filter((one) => !one.fault && !one.left_out))
const unread = computed(() => props.of.colours.filter((one) => one.fault === 'unreadable' && !one.left_out))
const out = computed(() => props.of.colours.filter((one) => one.left_out))
const held = computed(() => props.of.sizes.filter((one) => one.fault))
const tested = computed(() => props.of.houses.filter((one) => one.use || one.colours))
const spares = computed(() => props.of.houses.filter((one) => one.use === 'spare').map((one) => one.blank))
const setSpare = (one: Schema<'PrintHouseOut'>, on: boolean) =>
  emit('change', { spares: on ? [...spares.value, one.blank] : spares.value.filter((blank) => blank !== one.blank) })
const busy = ref(false)
/** Its figures are still those of the store that was chosen before. */
const waits = computed(() => busy.value || props.of.store !== props.store)
async function make() {
  if (!props.of.missing || waits.value) return
  busy.value = true
  await act(async () => {
    const begun = await take(
      api.POST('/api/v1/printing/designs/{number}/variants', { params: { path: { number: props.of.id } }, body: { store: props.store } }),
    )
    emit('begun', begun.job)
    return begun
  })
  busy.value = false
}
const sample = () =>
  act(() =>
    take(
      api.POST('/api/v1/printing/designs/{number}/sample', {
        params: { path: { number: props.of.id } },
        body: { colour: props.colour.name, size: props.of.size },
      }),
    ),
  )
const list = (rows: { name: string }[]) => rows.map((one) => one.name).join(', ')
const share = (n: number, all: number) => (all ? `${count(n)} of ${count(all)}` : '–')
defineExpose({ make })
</script>

<template>
  <p class="code text-soft">{{ of.side }} · {{ plural(of.colours.length, 'colour') }} × {{ plural(of.sizes.length, 'size') }}</p>
  <h1 class="mt-0.5">{{ plural(good.length, 'colour') }} can be sold</h1>
  <p class="mt-1.5 text-soft">
    Each colour takes the version of the artwork that reads better on it.
    <template v-for="one in unread" :key="one.name">
      On <b class="text-ink">{{ one.name }}</b> neither does: {{ percent(one.readable / 10) }} of the ink differs enough,
      {{ of.read_least }} % is asked. {{ one.sold ? `Its ${plural(one.sold, 'listing')} wait until one does.` : 'It is left out.' }}
    </template>
    <template v-if="out.length"> Left out by you: {{ list(out) }}.</template>
  </p>
  <p v-if="held.length" class="mt-2 rounded bg-amber-wash px-2.5 py-1.5 text-amber-ink">
    {{ held.map((one) => one.name).join(', ') }}:
    {{
      held[0]!.fault === 'soft'
        ? `the artwork has fewer than ${of.dpi_least} dots an inch there`
        : 'the artwork lies outside of the print area'
    }}. Not sold in {{ held.length === 1 ? 'that size' : 'those sizes' }}.
  </p>
  <h2 class="mt-4">Who prints it</h2>
  <table class="mt-1 w-full">
    <thead>
      <tr class="h-7 border-b border-rule text-2xs text-soft">
        <th>House</th>
        <th class="text-right">Landed</th>
        <th class="text-right">Days</th>
        <th class="pl-3 text-right">Use</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="one in tested" :key="one.blank" class="h-11 border-b border-rule-2">
        <th scope="row" class="max-w-40 truncate font-normal" :title="`${one.house}, ${one.name}, ${plural(one.colours, 'colour')}`">
          {{ one.house
          }}<span class="cell-2 block">{{ one.name }}{{ one.answered ? `, refused ${share(one.refused, one.answered)}` : '' }}</span>
        </th>
        <td class="pl-2 text-right">{{ money(one.landed) }}</td>
        <td class="pl-2 text-right whitespace-nowrap">{{ one.days_low }} to {{ one.days_high }}</td>
        <td class="pl-3 text-right">
          <b v-if="one.use === 'main'">main</b
          ><label v-else class="inline-flex items-center gap-1.5"
            ><input
              type="checkbox"
              :checked="one.use === 'spare'"
              :aria-label="`${one.house} stands in`"
              @change="setSpare(one, ($event.target as HTMLInputElement).checked)"
            />spare</label
          >
        </td>
      </tr>
    </tbody>
  </table>
  <h2 class="mt-4">Price, {{ of.size }}</h2>
  <label class="mt-1 block"
    ><span class="sr-only">Store</span
    ><select class="field" :value="store" aria-label="Store" @change="emit('store', Number(($event.target as HTMLSelectElement).value))">
      <option v-for="one in stores" :key="one.id" :value="one.id">{{ one.name }}</option>
    </select></label
  >
  <table class="mt-1 w-full">
    <tr class="h-8 border-b border-rule-2">
      <th scope="row" class="font-normal">Landed cost</th>
      <td class="text-right">{{ money(of.cost) }}</td>
    </tr>
    <tr class="h-8 border-b border-rule-2">
      <th scope="row" class="font-normal">Price by the rules</th>
      <td class="text-right font-bold">{{ money(of.price) }}</td>
    </tr>
    <tr class="h-8 border-b border-rule-2">
      <th scope="row" class="font-normal">Profit</th>
      <td class="text-right font-bold text-pine">{{ money(of.profit) }}</td>
    </tr>
    <tr v-if="of.dearest_more" class="h-8 border-b border-rule-2 text-soft">
      <th scope="row" class="font-normal">Dearest size</th>
      <td class="text-right">{{ money(of.dearest_more) }}</td>
    </tr>
  </table>
  <div class="mt-4 flex flex-col items-start gap-2">
    <Btn v-if="of.missing" kind="main" hint="A" :disabled="waits" @click="make">Prepare {{ plural(of.missing, 'listing') }}</Btn>
    <p v-else-if="of.combinations" class="text-pine">All {{ of.combinations }} are listed here.</p>
    <Btn v-if="unread.length" @click="emit('version', unread[0]!.name)">Add a version for {{ unread[0]!.name }}</Btn>
    <Btn v-if="colour.sold" @click="sample">Order a sample, {{ money(of.cost) }}</Btn>
    <RouterLink v-if="of.listings" :to="`/shelf?words=${encodeURIComponent(of.name)}`"
      ><Btn kind="link">{{ plural(of.listings, 'listing') }}, {{ of.on_sale }} on sale</Btn></RouterLink
    >
  </div>
</template>
