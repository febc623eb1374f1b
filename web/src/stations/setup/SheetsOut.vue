<script setup lang="ts">
/** What waits for a partner who works by sheets, and the sheets that were taken out for it: each can be had again or taken back. */
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import Sight from '@/parts/Sight.vue'
import When from '@/parts/When.vue'
import { count, dateOf, timeOf } from '@/parts/format'
import { sheetsOutQuery } from './queries'

const props = defineProps<{ partner: Schema<'PartnerOut'> }>()
const emit = defineEmits<{ close: [] }>()
const path = { owner: props.partner.owner as 'store' | 'supplier', number: props.partner.id }
const asked = useQuery(sheetsOutQuery(path.owner, path.number))
const NAMES: Record<string, string> = {
  purchases: 'purchase orders',
  changes: 'changes of prices and stock',
  tracking: 'tracking numbers and cancellations',
}
const DOES: Record<string, string> = {
  purchases: 'They count as handed over, and as accepted only when the supplier says so.',
  changes: 'The store is taken to show them from then on.',
  tracking: 'The store is taken to know them from then on.',
}
const sure = ref('')
const waiting = computed(() => asked.data.value?.waiting ?? [])
async function takeOut(what: string) {
  sure.value = ''
  let sheet = 0
  const done = await act(async () => {
    const made = await take(api.POST('/api/v1/sheets/out/{owner}/{number}/{what}', { params: { path: { ...path, what } } }))
    sheet = made.sheet
    return made
  })
  if (done) fetchIt(sheet, 'csv')
}
function fetchIt(sheet: number, form: 'csv' | 'xlsx') {
  const a = document.createElement('a')
  a.href = `api/v1/sheets/out/sheet/${sheet}.${form}`
  a.download = ''
  a.click()
}
const back = (sheet: number) => act(() => take(api.POST('/api/v1/sheets/out/sheet/{number}/back', { params: { path: { number: sheet } } })))
</script>

<template>
  <Modal
    open
    wide
    :title="`Sheets for ${partner.name}`"
    message="Each row goes out once. A sheet is kept as it was: you can have it again, or take it back as long as nobody answered."
    @close="emit('close')"
  >
    <Sight v-if="!asked.data.value" :of="asked" :lines="4" />
    <template v-else>
      <div v-for="one in waiting" :key="one.what" class="mb-2 flex items-center gap-3 rounded bg-shade px-3 py-2">
        <p class="min-w-0 flex-1">
          <b>{{ count(one.count) }}</b> {{ NAMES[one.what] }} wait since <When :at="one.since" />.
          <span v-if="sure === one.what" class="block text-soft">{{ DOES[one.what] }}</span>
        </p>
        <template v-if="sure === one.what"
          ><Btn small @click="sure = ''">Not now</Btn><Btn small kind="main" @click="takeOut(one.what)">Take them out</Btn></template
        ><Btn v-else small kind="main" @click="sure = one.what">Export</Btn>
      </div>
      <p v-if="!waiting.length" class="mb-2 text-soft">Nothing waits.</p>
      <table v-if="asked.data.value.sheets.length" class="w-full">
        <thead>
          <tr class="h-8 border-b border-rule text-left text-2xs text-soft">
            <th>Taken out</th>
            <th>By</th>
            <th>What</th>
            <th class="text-right">Rows</th>
            <th />
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in asked.data.value.sheets" :key="one.id" class="h-9 border-b border-rule-2 last:border-0">
            <td class="whitespace-nowrap">{{ dateOf(one.at) }} {{ timeOf(one.at) }}</td>
            <td>{{ one.who }}</td>
            <td>{{ NAMES[one.what] }}</td>
            <td class="text-right tabular-nums">{{ count(one.rows) }}</td>
            <td class="text-right whitespace-nowrap">
              <Btn small kind="link" @click="fetchIt(one.id, 'csv')">CSV</Btn
              ><Btn small kind="link" @click="fetchIt(one.id, 'xlsx')">XLSX</Btn
              ><span v-if="one.back_at" class="ml-2 text-xs text-soft">taken back</span
              ><Btn v-else small kind="link" @click="back(one.id)">Undo</Btn>
            </td>
          </tr>
        </tbody>
      </table>
    </template>
    <template #acts><Btn @click="emit('close')">Close</Btn></template>
  </Modal>
</template>
