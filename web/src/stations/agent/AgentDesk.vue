<script setup lang="ts">
/** The page of an agent or an assistant: their purchase orders, what to send where, and the numbers that they give back. */
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref } from 'vue'
import { api, take, upload, type Schema } from '@/api/client'
import { act, tell, wordsOf } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Empty from '@/parts/Empty.vue'
import Modal from '@/parts/Modal.vue'
import Tag from '@/parts/Tag.vue'
import { dateOf, plural } from '@/parts/format'
import Sight from '@/parts/Sight.vue'
import { mineQuery } from './queries'

const props = defineProps<{ here: Schema<'Here'> }>()
const emit = defineEmits<{ left: [] }>()
type Row = Schema<'MineOut'>
const asked = useQuery({
  ...mineQuery(),
  refetchInterval: 15_000,
})
const { data, refetch } = asked
const open = computed(() => (data.value ?? []).filter((one) => one.state !== 'shipped'))
const left = computed(() => (data.value ?? []).filter((one) => one.state === 'shipped'))
const agent = computed(() => props.here.role === 'agent')
const STATES: Record<string, string> = { waiting: 'new', sent: 'new', accepted: 'to send', shipped: 'sent' }
const done = (what: Promise<{ message: string }>) => act(() => what).then(() => void refetch())
const numbers = reactive<Record<string, string>>({})
const carrier = ref('')
const give = (row: Row) => {
  if (!numbers[row.reference]?.trim()) return tell('Type the tracking number first', true)
  void done(
    take(api.POST('/api/v1/mine/numbers', { body: { reference: row.reference, number: numbers[row.reference]!, carrier: carrier.value } })),
  )
}
const refusing = ref<Row | null>(null)
const reason = ref('')
const answer = (row: Row, state: string, message = '') =>
  done(take(api.POST('/api/v1/mine/answers', { body: { reference: row.reference, state, message } }))).then(() => (refusing.value = null))
async function sheet(form: string) {
  const response = await fetch(`api/v1/mine/purchases.${form}`, { method: 'POST', headers: { 'x-amber-lane': '1' } }).catch(() => null)
  if (!response) return tell('Amber Lane does not answer; try again when it is back.', true)
  if (!response.ok) return tell(((await response.json()) as { detail?: string }).detail ?? 'That did not work', true)
  const link = document.createElement('a')
  link.href = URL.createObjectURL(await response.blob())
  link.download = `purchase-orders.${form}`
  link.click()
  URL.revokeObjectURL(link.href)
  void refetch()
}
const bad = ref<Schema<'BadRow'>[]>([])
async function bring(event: Event, name: 'tracking' | 'answers') {
  const input = event.target as HTMLInputElement
  const file = input.files?.[0]
  if (!file) return
  try {
    const said = await upload<Schema<'TakenOut'>>(`/api/v1/mine/sheets/${name}`, file)
    bad.value = said.bad
    tell(`${plural(said.taken, 'row')} taken${bad.value.length ? `, ${bad.value.length} not` : ''}`, bad.value.length > 0)
  } catch (problem) {
    tell(wordsOf(problem), true)
  }
  input.value = ''
  void refetch()
}
const out = () => act(() => take(api.DELETE('/api/v1/session'))).then(() => emit('left'))
const where = (one: Row) =>
  ['name', 'address_1', 'address_2', 'city', 'region', 'postcode', 'country', 'phone'].map((name) => one.address[name]).filter(Boolean)
</script>

<template>
  <div class="flex h-full min-w-[760px] flex-col">
    <header class="flex h-13 items-center gap-4 bg-asphalt px-5 text-sheet">
      <b class="text-base" style="font-stretch: 110%">Amber Lane</b>
      <span class="text-sheet/70">{{ agent ? 'your purchase orders' : 'purchase orders to follow' }}</span>
      <span class="ml-auto">{{ here.name }}</span><button
        type="button"
        class="rounded border border-sheet/40 px-2.5 py-1 font-semibold hover:bg-asphalt-2"
        @click="out"
      >
        Sign out
      </button>
    </header>
    <main class="min-h-0 flex-1 overflow-auto p-5">
      <div class="mx-auto max-w-5xl">
        <div class="mb-3 flex flex-wrap items-center gap-2">
          <h1>{{ open.length ? `${plural(open.length, 'order')} to send` : 'Nothing to send' }}</h1>
          <span class="ml-auto" />
          <Btn v-if="open.length" @click="sheet('xlsx')">Take them as a sheet</Btn>
          <label class="cursor-pointer rounded border border-rule bg-sheet px-3 py-1.5 font-semibold focus-within:outline-2 hover:bg-shade"
            >Import numbers<input type="file" class="sr-only" accept=".csv,.xlsx" @change="bring($event, 'tracking')" /></label
          ><label
            v-if="agent"
            class="cursor-pointer rounded border border-rule bg-sheet px-3 py-1.5 font-semibold focus-within:outline-2 hover:bg-shade"
            >Import answers<input type="file" class="sr-only" accept=".csv,.xlsx" @change="bring($event, 'answers')"
          /></label>
        </div>
        <Sight :of="asked" />
        <div v-if="bad.length" class="sheet mb-3 border-brick p-3" role="alert">
          <b>These rows were not taken:</b>
          <ul class="mt-1">
            <li v-for="{ row, reason: fault } in bad.slice(0, 30)" :key="row + fault">row {{ row }}: {{ fault }}</li>
          </ul>
        </div>
        <label v-if="open.length" class="mb-3 flex items-center gap-2"
          ><span class="text-soft">Carrier of the numbers typed here</span><input v-model="carrier" class="field w-52!" maxlength="80"
        /></label>
        <article v-for="one in open" :key="one.id" class="sheet mb-2.5 grid grid-cols-[1fr_1.2fr_240px] gap-4 p-4">
          <div>
            <p>
              <span class="code font-medium">{{ one.reference }}</span>
              <Tag class="ml-2" :tone="one.state === 'accepted' ? 'plain' : 'waits'">{{ STATES[one.state] }}</Tag>
            </p>
            <p class="mt-1 text-soft">
              {{ one.supplier }}, {{ one.service }}<template v-if="one.promised_by">, there by {{ dateOf(one.promised_by) }}</template>
            </p>
            <p v-if="one.message" class="mt-1 text-brick">{{ one.message }}</p>
            <p v-if="one.note" class="mt-1 text-xs text-soft">{{ one.note }}</p>
            <p v-if="one.greeting" class="mt-1 text-xs">Greeting: {{ one.greeting }}</p>
          </div>
          <div>
            <ul>
              <li v-for="line in one.lines" :key="line.line_no">
                <b>{{ line.quantity }} ×</b> {{ line.title }} <span class="code text-soft">{{ line.item }}</span>
              </li>
            </ul>
            <address class="mt-2 text-soft not-italic">{{ where(one).join(', ') }}</address>
          </div>
          <form class="flex flex-col gap-2" @submit.prevent="give(one)">
            <label
              ><span class="label">Tracking number</span><input v-model="numbers[one.reference]" class="field code" maxlength="60"
            /></label>
            <span class="flex gap-2"
              ><Btn kind="main" small @click="give(one)">Sent</Btn>
              <template v-if="agent"
                ><Btn v-if="one.state !== 'accepted'" small @click="answer(one, 'accepted')">Accept</Btn
                ><Btn
                  small
                  @click="
                    () => {
                      refusing = one
                      reason = ''
                    }
                  "
                  >Cannot send</Btn
                ></template
              ></span
            >
          </form>
        </article>
        <Empty
          v-if="data && !data.length"
          title="No purchase order is here"
          message="They appear as soon as the manager sends orders to you."
        />
        <section v-if="left.length" class="sheet mt-5">
          <h2 class="px-4 pt-3 pb-1">Sent in the last month</h2>
          <table class="w-full">
            <tbody>
              <tr v-for="one in left" :key="one.id" class="h-9 border-t border-rule-2">
                <td class="code px-4">{{ one.reference }}</td>
                <td class="px-2">{{ one.address.name }}, {{ one.address.city }}</td>
                <td class="code px-2">{{ one.numbers.join(', ') }}</td>
                <td class="px-4 text-right text-soft">{{ dateOf(one.made_at) }}</td>
              </tr>
            </tbody>
          </table>
        </section>
      </div>
    </main>
    <Modal
      v-if="refusing"
      open
      :title="`${refusing.reference} cannot be sent`"
      message="The manager sees why, and it is bought elsewhere."
      @close="refusing = null"
    >
      <label><span class="label">Why</span><input v-model="reason" class="field" maxlength="300" /></label>
      <template #acts
        ><Btn @click="refusing = null">Cancel</Btn><Btn kind="main" @click="answer(refusing!, 'refused', reason)">Tell them</Btn></template
      >
    </Modal>
  </div>
</template>
