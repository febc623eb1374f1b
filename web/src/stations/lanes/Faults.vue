<script setup lang="ts">
/** Lanes that cannot be right, each with the step that mends it. */
import { useQuery } from '@tanstack/vue-query'
import { ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { useKeys } from '@/app/keys'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Empty from '@/parts/Empty.vue'
import Tag from '@/parts/Tag.vue'
import Sight from '@/parts/Sight.vue'
import { faultsQuery } from './queries'
import { FAULTS } from './words'

type Fault = Schema<'FaultOut'>
const emit = defineEmits<{ open: [sku: number] }>()
const asked = useQuery(faultsQuery())
const { data } = asked
const cursor = ref(0)
const mend = (one: Fault) =>
  one.act ? act(() => take(api.POST('/api/v1/lanes/faults/mend', { body: { key: one.key } }))) : emit('open', one.sku_id)
const aside = (one: Fault) => act(() => take(api.POST('/api/v1/lanes/faults/aside', { body: { key: one.key } })))
const go = (by: number) => (cursor.value = Math.max(0, Math.min((data.value?.length ?? 1) - 1, cursor.value + by)))
const current = () => data.value?.[cursor.value]
useKeys('Faults', [
  { key: 'j', message: 'next fault', run: () => go(1) },
  { key: 'k', message: 'fault before', run: () => go(-1) },
  { key: 'a', message: 'do the step', run: () => current() && void mend(current()!) },
  { key: 'enter', message: 'see the SKU', run: () => current() && emit('open', current()!.sku_id) },
])
</script>

<template>
  <div class="p-4.5">
    <h1 class="sr-only">Lanes that cannot be right</h1>
    <Sight :of="asked" :lines="4" />
    <Empty
      v-if="data && !data.length"
      title="No lane looks wrong"
      message="Here come lanes whose units do not fit, kits that lack an item, replacements in a circle, lanes that go nowhere your stores sell, and costs that moved far."
    />
    <ul v-else-if="data" class="sheet divide-y divide-rule-2">
      <!-- eslint-disable-next-line vuejs-accessibility/click-events-have-key-events, vuejs-accessibility/no-static-element-interactions -- arrow keys move the cursor too -->
      <li
        v-for="(one, n) in data"
        :key="one.key"
        class="relative flex items-center gap-4 px-4 py-2.5"
        :class="cursor === n ? 'bg-shade' : ''"
        @click="cursor = n"
      >
        <span v-if="cursor === n" class="absolute inset-y-0 left-0 w-[3px] bg-asphalt" aria-hidden="true" />
        <span class="w-28 shrink-0"
          ><Tag tone="waits">{{ FAULTS[one.kind] ?? one.kind }}</Tag></span
        >
        <span class="min-w-0 flex-1"
          ><b class="block truncate" :title="one.message">{{ one.message }}</b
          ><span class="cell-2 block truncate" :title="one.reason">{{ one.reason }}</span></span
        >
        <span class="flex shrink-0 gap-2"
          ><Btn small kind="link" @click="emit('open', one.sku_id)">See the SKU</Btn
          ><Btn v-if="one.act !== 'confirm'" small @click="aside(one)">It is no fault</Btn
          ><Btn small :kind="cursor === n ? 'main' : 'plain'" :hint="cursor === n ? 'A' : undefined" @click="mend(one)">{{
            one.act ? one.step : 'Look for another'
          }}</Btn></span
        >
      </li>
    </ul>
  </div>
</template>
