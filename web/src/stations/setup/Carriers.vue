<script setup lang="ts">
/** How each store calls each carrier: learned where the store tells its list, chosen here where it does not. */
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Sight from '@/parts/Sight.vue'
import Tag from '@/parts/Tag.vue'
import { plural } from '@/parts/format'
import { carrierNamesQuery } from './queries'

type Naming = Schema<'NamingOut'>
const asked = useQuery(carrierNamesQuery())
const stores = computed(() => {
  const found = new Map<string, Naming[]>()
  for (const one of asked.data.value ?? []) found.set(one.store_name, [...(found.get(one.store_name) ?? []), one])
  return [...found.entries()]
})
const typed = reactive<Record<string, string>>({})
const at = (one: Naming) => `${one.store}-${one.carrier}`
const set = (one: Naming) =>
  act(() =>
    take(
      api.POST('/api/v1/setup/carriers/names', {
        body: { store: one.store, carrier: one.carrier, name: (typed[at(one)] ?? one.name).trim() },
      }),
    ),
  ).then((worked) => worked && delete typed[at(one)])
</script>

<template>
  <div class="max-w-4xl">
    <h1>How each store calls the carriers</h1>
    <p class="mt-1 mb-4 text-soft">
      A tracking number goes to a store with the carrier's name there. Most stores tell their names; where one does not, choose or write it
      once, and what waits goes on at once.
    </p>
    <Sight
      :of="asked"
      :empty="!stores.length"
      title="No store and carrier yet"
      message="Once a store and a carrier are connected, their names stand here side by side."
    >
      <section v-for="[store, rows] in stores" :key="store" class="mb-5">
        <h2 class="mb-1.5">
          {{ store }}
          <span class="font-normal text-soft">{{
            rows[0]!.list.length ? `tells ${plural(rows[0]!.list.length, 'name')}` : 'tells no list'
          }}</span>
        </h2>
        <div class="sheet overflow-hidden">
          <table class="w-full">
            <thead>
              <tr class="h-8 border-b border-rule text-2xs text-soft">
                <th class="w-56 px-3">Carrier</th>
                <th class="px-3">Is called there</th>
                <th class="w-56 px-3">Waits for it</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="one in rows" :key="one.carrier" class="h-11 border-b border-rule-2 last:border-0">
                <td class="px-3 font-semibold">{{ one.carrier_name }}</td>
                <td class="px-3">
                  <form class="flex items-center gap-2" @submit.prevent="set(one)">
                    <select
                      v-if="one.list.length"
                      class="field w-64!"
                      :aria-label="`${one.carrier_name} in ${one.store_name}`"
                      :value="typed[at(one)] ?? one.name"
                      @change="typed[at(one)] = ($event.target as HTMLSelectElement).value"
                    >
                      <option value="" disabled>choose</option>
                      <option v-for="name in one.list" :key="name" :value="name">{{ name }}</option></select
                    ><input
                      v-else
                      class="field w-64!"
                      maxlength="200"
                      :aria-label="`${one.carrier_name} in ${one.store_name}`"
                      :value="typed[at(one)] ?? one.name"
                      @input="typed[at(one)] = ($event.target as HTMLInputElement).value"
                    /><Btn small :disabled="!typed[at(one)]?.trim() || typed[at(one)] === one.name" @click="set(one)">Save</Btn>
                  </form>
                </td>
                <td class="px-3">
                  <Tag v-if="one.waits" tone="waits">{{ plural(one.waits, 'tracking number') }}</Tag><span v-else class="text-soft"
                    >nothing</span
                  >
                </td>
              </tr>
            </tbody>
          </table>
        </div>
      </section>
    </Sight>
  </div>
</template>
