<script setup lang="ts">
/** What a supplier's money is worth in a store's: only shown where two currencies meet. */
import { useQuery } from '@tanstack/vue-query'
import { ref, watch } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { dateOf } from '@/parts/format'
import Btn from '@/parts/Btn.vue'
import DraftModal from '@/parts/DraftModal.vue'

const { data } = useQuery({ queryKey: ['rates'], queryFn: () => take(api.GET('/api/v1/prices/rates')) })
const typed = ref<Record<string, string>>({})
const draft = ref<Schema<'RateBody'> | null>(null)
const name = (row: Schema<'RateOut'>) => `${row.base} ${row.quote}`
watch(data, (rows) => rows?.forEach((row) => (typed.value[name(row)] ??= row.rate ?? '')), { immediate: true })
function kept() {
  draft.value = null
  typed.value = {}
}
</script>

<template>
  <section v-if="data?.length" class="sheet mb-4 max-w-4xl p-4">
    <h2 class="text-base!">Exchange rates</h2>
    <p class="text-soft">
      The currency cushion of the limits is laid on top. Without a rate, listings that need it keep their price; their stock is followed all
      the same.
    </p>
    <form
      v-for="row in data"
      :key="name(row)"
      class="mt-3 flex items-center gap-3"
      @submit.prevent="draft = { base: row.base, quote: row.quote, rate: (typed[name(row)] ?? '').trim() }"
    >
      <label class="flex items-center gap-2"
        ><span class="num w-14">1 {{ row.base }} =</span
        ><input
          v-model="typed[name(row)]"
          class="field w-32! text-right"
          inputmode="decimal"
          maxlength="20"
          :aria-label="`What 1 ${row.base} is in ${row.quote}`"
        /><span class="num">{{ row.quote }}</span></label
      >
      <span :class="row.since ? 'text-soft' : 'text-brick'">{{ row.since ? `entered ${dateOf(row.since)}` : 'not entered yet' }}</span>
      <Btn small class="ml-auto" type="submit" :disabled="!typed[name(row)]?.trim() || typed[name(row)] === row.rate">See what it does</Btn>
    </form>
    <DraftModal
      v-if="draft"
      :title="`What 1 ${draft.base} is in ${draft.quote}`"
      :draft="{ rate: draft }"
      @close="draft = null"
      @done="kept"
    />
  </section>
</template>
