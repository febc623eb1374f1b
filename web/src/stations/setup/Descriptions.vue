<script setup lang="ts">
/** Partners described by their users: a list, and the workbench for the chosen one. */
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import Btn from '@/parts/Btn.vue'
import Empty from '@/parts/Empty.vue'
import Sight from '@/parts/Sight.vue'
import Tag from '@/parts/Tag.vue'
import When from '@/parts/When.vue'
import { plural } from '@/parts/format'
import { useRowKeys } from '@/parts/rowKeys'
import Begin from './describe/Begin.vue'
import Workbench from './describe/Workbench.vue'
import { allDescriptions } from './describe/queries'

const route = useRoute()
const router = useRouter()
const asked = useQuery(allDescriptions())
const own = computed(() => asked.data.value?.own ?? [])
const chosen = computed(() => own.value.find((one) => one.id === Number(route.query.one)))
const beginning = ref(false)
const open = (id: number) => {
  beginning.value = false
  void router.push({ query: { one: id } })
}
const active = useRowKeys('Described partners', 'description', () => own.value.length, [
  { key: 'enter', message: 'opens it', run: () => !chosen.value && own.value[active.value] && open(own.value[active.value]!.id) },
])
const OWNERS = { store: 'store', supplier: 'supplier', carrier: 'carrier', rates: 'exchange rates' } as const
</script>

<template>
  <div class="flex flex-col">
    <Workbench v-if="chosen" :key="chosen.id" :number="chosen.id" @leave="router.push({ query: {} })" />
    <template v-else>
      <div class="mb-3 flex flex-wrap items-center gap-3">
        <h1>Described partners</h1>
        <span class="text-soft"
          >How the interface of a store, supplier, carrier or bank is spoken to, where no connection of it is ready made.</span
        >
        <Btn kind="main" class="ml-auto" @click="beginning = true">Describe one</Btn>
      </div>
      <div class="sheet">
        <Sight :of="asked" :empty="!own.length">
          <template #empty
            ><Empty
              title="No partner is described yet"
              message="With the partner’s paper beside you, a description takes about half an hour: its address and sign-in, what you ask, and where in the answers our fields are."
          /></template>
          <table class="w-full">
            <thead>
              <tr class="h-8 text-2xs text-soft">
                <th class="px-3 text-left">Description</th>
                <th class="px-2 text-left">Of a</th>
                <th class="px-2 text-left">State</th>
                <th class="px-2 text-left">Certificate</th>
                <th class="px-2 text-left">Spoken to by it</th>
                <th class="px-3 text-right">Changed</th>
              </tr>
            </thead>
            <tbody>
              <tr
                v-for="(one, n) in own"
                :key="one.id"
                class="h-11 cursor-pointer border-t border-rule-2 hover:bg-shade/60"
                :class="n === active && 'bg-shade'"
                @click="open(one.id)"
              >
                <td class="max-w-64 truncate px-3" :title="one.name">
                  <button type="button" class="font-semibold" @click.stop="open(one.id)">{{ one.name }}</button>
                </td>
                <td class="px-2 text-soft">{{ OWNERS[one.owner] }}</td>
                <td class="px-2">
                  <Tag v-if="one.faults" tone="plain">{{ plural(one.faults, 'thing') }} to say yet</Tag
                  ><Tag v-else-if="one.versions" tone="good">version {{ one.versions }}</Tag
                  ><Tag v-else tone="info">ready to be used</Tag>
                </td>
                <td class="px-2">
                  <span v-if="one.certificate" :class="one.certificate.current ? '' : 'text-soft'"
                    >{{ one.certificate.summary }}{{ one.certificate.current ? '' : ' (of how it read before)' }}</span
                  ><span v-else class="text-soft">not tried yet</span>
                </td>
                <td class="max-w-56 truncate px-2">{{ one.uses.map((use) => use.name).join(', ') || '–' }}</td>
                <td class="px-3 text-right text-soft"><When :at="one.changed_at" clock /></td>
              </tr>
            </tbody>
          </table>
        </Sight>
      </div>
    </template>
    <Begin v-if="beginning" @close="beginning = false" @begun="open" />
  </div>
</template>
