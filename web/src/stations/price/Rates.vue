<script setup lang="ts">
/** What a supplier's money is worth in a store's: told by a bank each day, by a sheet, or typed; old and odd ones say so. */
import { useQuery } from '@tanstack/vue-query'
import { ref, watch } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import { dateOf, inField, plainOf } from '@/parts/format'
import Btn from '@/parts/Btn.vue'
import DraftModal from '@/parts/DraftModal.vue'
import SheetIn from '@/parts/SheetIn.vue'
import SheetOut from '@/parts/SheetOut.vue'
import Tag from '@/parts/Tag.vue'
import Sight from '@/parts/Sight.vue'
import { ratesQuery } from './queries'

const asked = useQuery(ratesQuery())
const { data } = asked
const typed = ref<Record<string, string>>({})
const draft = ref<Schema<'RateBody'> | null>(null)
const bring = ref(false)
const name = (row: Schema<'RateOut'>) => `${row.base} ${row.quote}`
watch(data, (now) => now?.pairs.forEach((row) => (typed.value[name(row)] ??= inField(row.rate))), { immediate: true })
function kept() {
  draft.value = null
  typed.value = {}
}
const from = (row: Schema<'RateOut'>) => (row.source === 'hand' ? 'typed' : row.source === 'sheet' ? 'by a sheet' : `told by ${row.source}`)
const settle = (one: Schema<'RateDoubt'>, believe: boolean) =>
  act(() =>
    take(api.POST('/api/v1/prices/rates/{source}/settle', { params: { path: { source: one.source } }, body: { name: one.name, believe } })),
  )
</script>

<template>
  <Sight :of="asked" :lines="3" />
  <section v-if="data" class="sheet mb-4 max-w-4xl p-4">
    <div class="flex items-start gap-2">
      <div>
        <h2 class="text-base!">Exchange rates</h2>
        <p class="text-soft">
          {{
            data.sources.length
              ? `${data.sources.join(' and ')} tells them each day; one that you type holds until the next day's comes.`
              : 'Connect a bank under Stores and suppliers, and they come each day by themselves.'
          }}
          The currency cushion of the limits is laid on top. Without a rate, listings that need it keep their price; their stock is followed
          all the same.
        </p>
      </div>
      <span class="ml-auto" /><Btn @click="bring = true">Import</Btn
      ><SheetOut csv="api/v1/sheets/rates/ours.csv" xlsx="api/v1/sheets/rates/ours.xlsx" />
    </div>
    <div v-for="one in data.doubts" :key="one.name" class="mt-3 flex items-center gap-3 rounded bg-amber-wash px-3 py-2 text-amber-ink">
      <span class="flex-1"
        >{{ one.name.replace(' ', ' to ') }}: {{ one.message }} was told, {{ one.was }} before. It is not used until it is told again on
        another day.</span
      ><Btn small kind="main" @click="settle(one, false)">Keep {{ one.was }}</Btn
      ><Btn small @click="settle(one, true)">Use the new rate</Btn>
    </div>
    <form
      v-for="row in data.pairs"
      :key="name(row)"
      class="mt-3 flex items-center gap-3"
      @submit.prevent="draft = { base: row.base, quote: row.quote, rate: plainOf(typed[name(row)] ?? '') }"
    >
      <label class="flex items-center gap-2"
        ><span class="num w-14">1 {{ row.base }} =</span
        ><input
          v-model="typed[name(row)]"
          class="field w-36! text-right"
          inputmode="decimal"
          maxlength="20"
          :aria-label="`What 1 ${row.base} is in ${row.quote}`"
        /><span class="num">{{ row.quote }}</span></label
      >
      <span :class="row.since ? 'text-soft' : 'text-brick'">{{
        row.since ? `${from(row)}, ${dateOf(row.since)}` : 'not entered yet'
      }}</span>
      <Tag v-if="row.old" tone="waits">old</Tag>
      <Btn small class="ml-auto" type="submit" :disabled="!typed[name(row)]?.trim() || typed[name(row)] === inField(row.rate)"
        >See what it does</Btn
      >
    </form>
    <p v-if="!data.pairs.length" class="mt-3 text-soft">All suppliers and stores use one currency; no rate is needed.</p>
    <DraftModal
      v-if="draft"
      :title="`What 1 ${draft.base} is in ${draft.quote}`"
      :draft="{ rate: draft }"
      @close="draft = null"
      @done="kept"
    />
    <SheetIn :open="bring" sheet="rates" title="Import exchange rates" @close="bring = false" />
  </section>
</template>
