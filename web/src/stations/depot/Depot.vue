<script setup lang="ts">
/** Depot: our own stock with a partner near the buyers. What is there and for how long, what is worth holding, loads, and the ledger. */
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useKeys } from '@/app/keys'
import Btn from '@/parts/Btn.vue'
import Empty from '@/parts/Empty.vue'
import Pills from '@/parts/Pills.vue'
import Sight from '@/parts/Sight.vue'
import { count, money, plural } from '@/parts/format'
import Ledger from './Ledger.vue'
import Loads from './Loads.vue'
import PlanForm from './PlanForm.vue'
import Slow from './Slow.vue'
import StockAhead from './StockAhead.vue'
import Wishes from './Wishes.vue'
import WorthHolding from './WorthHolding.vue'
import { aheadQuery } from './depot'

const route = useRoute()
const router = useRouter()
const asked = useQuery(aheadQuery())
const data = asked.data
const view = computed(() => String(route.query.view ?? 'ahead'))
const show = (key: string) => void router.replace({ query: key === 'ahead' ? {} : { view: key } })
const views = computed(() => [
  { key: 'ahead', label: 'Stock ahead' },
  { key: 'worth', label: 'Worth holding', count: data.value?.worth ?? 0 },
  { key: 'loads', label: 'Loads', count: data.value?.loads ?? 0 },
  { key: 'slow', label: 'Stock that lies', count: data.value?.rows.filter((one) => one.slow).length ?? 0 },
  { key: 'ledger', label: 'Ledger' },
])
const title = computed(() => {
  const n = data.value?.to_order ?? 0
  return view.value !== 'ahead'
    ? (views.value.find((one) => one.key === view.value)?.label ?? '')
    : n
      ? `${count(n)} to order today`
      : 'Stock ahead'
})
const where = computed(() => {
  const d = data.value
  if (!d?.depots.length) return ''
  const names = d.depots.map((one) => one.name).join(' and ')
  const saves = d.saving && Number(d.saving.amount) > 0 ? `; it saves ${money(d.saving)} a month` : ''
  return `${plural(d.rows.length, 'SKU')} at ${names}${saves}`
})
const planning = ref(false)
const wishing = ref(false)
useKeys('Depot', [
  { key: 'p', message: 'order within a budget', run: () => data.value?.rows.length && (planning.value = true) },
  ...['ahead', 'worth', 'loads', 'slow', 'ledger'].map((key, n) => ({
    key: `shift+${n + 1}`,
    message: `view ${n + 1}`,
    run: () => show(key),
  })),
])
</script>

<template>
  <div class="flex h-full flex-col">
    <div class="flex flex-wrap items-center gap-x-3 gap-y-2 border-b border-rule px-4.5 py-2.5">
      <div class="min-w-0">
        <h1>{{ title }}</h1>
        <p v-if="where" class="truncate text-soft">{{ where }}</p>
      </div>
      <span class="ml-auto" />
      <template v-if="data?.depots.length">
        <Pills :options="views" :chosen="view" label="Views of the depot" @choose="show" />
        <Btn small @click="wishing = true">What we wish</Btn>
      </template>
    </div>
    <Sight :of="asked" :empty="!data?.depots.length" :lines="8">
      <template #empty
        ><Empty
          title="No depot holds stock of yours"
          message="What sells steadily is cheaper and faster from a depot near your buyers. Connect one, and every SKU is weighed: what it costs now, what it would cost from there, and what would be tied up."
          ><RouterLink to="/setup/partners"><Btn kind="main">Connect a depot</Btn></RouterLink></Empty
        ></template
      >
      <StockAhead v-if="view === 'ahead'" :of="data!" class="min-h-0 flex-1" @plan="planning = true" @show="show" />
      <WorthHolding v-else-if="view === 'worth'" :depots="data!.depots" class="min-h-0 flex-1" />
      <Loads v-else-if="view === 'loads'" :of="data!" class="min-h-0 flex-1" />
      <Slow v-else-if="view === 'slow'" class="min-h-0 flex-1" />
      <Ledger v-else :rows="data!.rows" class="min-h-0 flex-1" />
    </Sight>
    <PlanForm v-if="planning" @close="planning = false" />
    <Wishes v-if="wishing" :depots="data!.depots" @close="wishing = false" />
  </div>
</template>
