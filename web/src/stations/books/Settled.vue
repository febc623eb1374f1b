<script setup lang="ts">
/** What stores really paid out and suppliers really billed, held against what was expected. */
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { api, take, upload, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import SheetIn from '@/parts/SheetIn.vue'
import Sight from '@/parts/Sight.vue'
import Tag from '@/parts/Tag.vue'
import { count, dateOf, money, number, percent, plural } from '@/parts/format'
import { settlementsQuery, statementsQuery } from './books'

const paid = useQuery(settlementsQuery())
const billed = useQuery(statementsQuery())
const bring = ref<'' | 'settlements' | 'statements'>('')
const WORDS: Record<string, string> = {
  higher: 'billed more than ordered',
  lower: 'billed less than ordered',
  double: 'billed twice',
  unknown: 'no such order here',
  not_bought: 'refused or cancelled, and billed all the same',
  missing: 'in no statement yet',
}
const accept = (id: number) => act(() => take(api.POST('/api/v1/books/settlements/{number}/accept', { params: { path: { number: id } } })))
const step = (path: '/api/v1/books/statements/accept' | '/api/v1/books/statements/claim', supplier: number, reference: string) =>
  act(() => take(api.POST(path, { body: { supplier, reference } })))
/** The newest ones, and older ones that ask for something; all of them when asked for. */
const all = ref(false)
const shown = computed(() => (paid.data.value?.rows ?? []).filter((one, n) => all.value || n < 8 || (one.told && !one.settled)))
const picker = ref<HTMLInputElement | null>(null)
async function invoice(event: Event) {
  const input = event.target as HTMLInputElement
  const file = input.files?.[0]
  if (file) await act(() => upload<Schema<'Done'>>('/api/v1/books/invoices', file))
  input.value = ''
}
const share = (ppm: number) => percent(ppm / 10_000)
const odd = computed(() => billed.data.value ?? [])
</script>

<template>
  <div class="overflow-auto p-4.5">
    <div class="flex items-center gap-2">
      <h1>Paid out by stores</h1>
      <span class="ml-auto" /><Btn @click="bring = 'settlements'">Import settlements</Btn>
    </div>
    <p class="text-soft">
      <template v-if="paid.data.value?.owed.length"
        >By the journal
        <template v-for="(one, n) in paid.data.value.owed" :key="one.store"
          >{{ n ? ', ' : '' }}{{ one.store }} owes {{ money(one.amount) }}</template
        >.</template
      >
      A settlement is matched to orders row by row; what a store took otherwise than set is in the profit at once.
    </p>
    <section
      v-for="one in paid.data.value?.fees ?? []"
      :key="`${one.store}-${one.category}`"
      class="mt-3 flex items-center gap-3 rounded bg-amber-wash px-3 py-2 text-amber-ink"
    >
      <span class="flex-1"
        ><b
          >{{ one.store_name }} takes {{ share(one.real_ppm) }} in {{ one.category || 'all other categories' }}, set are
          {{ share(one.set_ppm) }}</b
        >; of {{ plural(one.orders, 'settled order') }}, {{ money(one.a_day) }} a day.</span
      ><RouterLink :to="`/price?view=fees&store=${one.store}&category=${encodeURIComponent(one.category)}&takes=${one.real_ppm / 10_000}`"
        ><Btn small kind="main">Set it so</Btn></RouterLink
      >
    </section>
    <div class="sheet mt-3 overflow-auto">
      <Sight
        :of="paid"
        :lines="4"
        :empty="!paid.data.value?.rows.length"
        title="No settlement has been read yet"
        message="Stores that tell them by interface are asked once a day; for all others import the sheet of what they paid out."
      >
        <table class="w-full">
          <thead>
            <tr class="h-8 border-b border-rule text-2xs text-soft">
              <th class="px-2.5">Settlement</th>
              <th class="px-2.5">Store</th>
              <th class="px-2.5">Paid out</th>
              <th class="px-2.5 text-right">Rows</th>
              <th class="px-2.5 text-right">Its rows</th>
              <th class="px-2.5 text-right">Paid</th>
              <th class="px-2.5 text-right">Otherwise than expected</th>
              <th />
            </tr>
          </thead>
          <tbody>
            <tr v-for="one in shown" :key="one.id" class="h-9 border-b border-rule-2">
              <th scope="row" class="code px-2.5">{{ one.number }}</th>
              <td class="px-2.5">{{ one.store }}</td>
              <td class="px-2.5">{{ dateOf(one.at) }}</td>
              <td class="px-2.5 text-right">{{ one.rows }}</td>
              <td class="px-2.5 text-right">{{ money(one.sum) }}</td>
              <td class="px-2.5 text-right font-bold">{{ one.paid ? money(one.paid) : 'not yet' }}</td>
              <td class="px-2.5 text-right" :class="number(one.difference) < 0 ? 'text-brick' : ''">
                {{ one.differs ? `${money(one.difference, true)} in ${plural(one.differs, 'order')}` : 'as expected' }}
              </td>
              <td class="space-x-1.5 px-2.5 text-right whitespace-nowrap">
                <template v-if="one.told && !one.settled"
                  ><Tag tone="waits">{{ one.told }}</Tag> <Btn small @click="accept(one.id)">Take as it is</Btn></template
                >
              </td>
            </tr>
          </tbody>
        </table>
        <p v-if="shown.length < (paid.data.value?.rows.length ?? 0) || all" class="px-2.5 py-1.5">
          <Btn kind="link" small @click="all = !all">{{ all ? 'Show the newest' : `Show all ${count(paid.data.value!.rows.length)}` }}</Btn>
        </p>
      </Sight>
    </div>
    <div class="mt-7 flex items-center gap-2">
      <h1>Billed by suppliers</h1>
      <span class="ml-auto" /><Btn @click="picker?.click()">Import an invoice (UBL)</Btn
      ><Btn @click="bring = 'statements'">Import a statement</Btn
      ><input ref="picker" type="file" accept=".xml,application/xml,text/xml" class="hidden" aria-label="The invoice" @change="invoice" />
    </div>
    <p class="text-soft">
      What a statement says of a purchase counts in the profit as soon as it is read; what is odd about it waits here.
    </p>
    <div class="sheet mt-3 overflow-auto">
      <Sight
        :of="billed"
        :lines="3"
        :empty="!odd.length"
        title="Nothing is odd"
        message="Import a supplier's statement to hold it against what was ordered."
      >
        <table class="w-full">
          <thead>
            <tr class="h-8 border-b border-rule text-2xs text-soft">
              <th class="px-2.5">Purchase order</th>
              <th class="px-2.5">Supplier</th>
              <th class="px-2.5">What is odd</th>
              <th class="px-2.5 text-right">Ordered for</th>
              <th class="px-2.5 text-right">Billed</th>
              <th class="px-2.5 text-right">More</th>
              <th />
            </tr>
          </thead>
          <tbody>
            <tr v-for="one in odd" :key="`${one.supplier}-${one.reference}`" class="h-9 border-b border-rule-2">
              <th scope="row" class="code px-2.5">{{ one.reference }}</th>
              <td class="px-2.5">{{ one.supplier_name }}</td>
              <td class="px-2.5">{{ WORDS[one.what] }}<Tag v-if="one.claimed" class="ml-2" tone="plain">asked</Tag></td>
              <td class="px-2.5 text-right">{{ money(one.planned) }}</td>
              <td class="px-2.5 text-right">{{ money(one.charged) }}</td>
              <td class="px-2.5 text-right font-bold" :class="number(one.more) > 0 ? 'text-brick' : ''">{{ money(one.more, true) }}</td>
              <td class="space-x-1.5 px-2.5 text-right whitespace-nowrap">
                <template v-if="one.what !== 'missing'"
                  ><Btn
                    v-if="number(one.more) > 0 && !one.claimed"
                    small
                    kind="main"
                    @click="step('/api/v1/books/statements/claim', one.supplier, one.reference)"
                    >Ask for it</Btn
                  >
                  <Btn small @click="step('/api/v1/books/statements/accept', one.supplier, one.reference)">Accept</Btn></template
                >
              </td>
            </tr>
          </tbody>
        </table>
      </Sight>
    </div>
    <SheetIn :open="bring === 'settlements'" sheet="settlements" title="Import what a store paid out" @close="bring = ''" />
    <SheetIn :open="bring === 'statements'" sheet="statements" title="Import a supplier's statement" @close="bring = ''" />
  </div>
</template>
