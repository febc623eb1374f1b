<script setup lang="ts">
/** Returns that buyers ask for in their store: each with its deadline, answered by a case or refused with why. */
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, take } from '@/api/client'
import { useKeys } from '@/app/keys'
import { may } from '@/app/may'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import KeyHint from '@/parts/KeyHint.vue'
import RowTable from '@/parts/RowTable.vue'
import Sight from '@/parts/Sight.vue'
import { dateOf, money, timeOf } from '@/parts/format'
import { useForm } from '@/parts/form'
import { useRowKeys } from '@/parts/rowKeys'
import { askedQuery } from './cases'

const emit = defineEmits<{ opened: [] }>()
const route = useRoute()
const router = useRouter()
const asked = useQuery(askedQuery())
const rows = computed(() => asked.data.value ?? [])
const active = useRowKeys('Returns asked for', 'return', () => rows.value.length)
watch(
  [() => route.query.asked, () => rows.value.length],
  () => {
    const at = rows.value.findIndex((one) => one.id === Number(route.query.asked))
    if (at >= 0) active.value = at
  },
  { immediate: true },
)
const chosen = computed(() => rows.value[active.value])
const can = computed(() => may('claim'))
const { error, busy, clear, send, sendAct } = useForm()
const refusing = ref(false)
const why = ref('')
/** Its case, opened now where there is none: the answer to the store is given there. */
async function open(one = chosen.value) {
  if (!one || !can.value) return
  const made = one.case
    ? { id: one.case }
    : await send(() => take(api.POST('/api/v1/returns/asked/{number}/case', { params: { path: { number: one.id } } })))
  if (!made) return
  emit('opened')
  void router.push(`/transit?show=cases&case=${made.id}`)
}
function begin() {
  if (!chosen.value || !can.value) return
  clear()
  why.value = ''
  refusing.value = true
}
const refuse = () =>
  sendAct(
    () =>
      take(
        api.POST('/api/v1/returns/asked/{number}/refuse', {
          params: { path: { number: chosen.value!.id } },
          body: { version: chosen.value!.version, reason: why.value },
        }),
      ),
    () => (refusing.value = false),
  )
useKeys('Returns asked for', [
  { key: 'o', message: 'open its case', run: () => void open() },
  { key: 'n', message: 'refuse it', run: () => begin() },
])
</script>

<template>
  <div class="sheet min-h-0 flex-1 overflow-auto">
    <Sight
      :of="asked"
      :lines="5"
      :empty="!rows.length"
      title="No buyer asks to send anything back"
      message="What buyers ask for in a store with an interface appears here, with the day until which the store waits for you."
    >
      <RowTable
        v-slot="{ one }"
        :heads="['Buyer and goods', 'Why, and until when', 'Paid']"
        :right="[2]"
        :rows="rows"
        :key-of="(one) => one.id"
        :active="active"
        height="h-14"
        @choose="active = $event"
      >
        <th scope="row" class="max-w-60 px-2.5 font-normal">
          <span class="block truncate" :title="`${one.units} × ${one.title}`"
            ><b>{{ one.buyer }}</b> {{ one.units }} × {{ one.title }}</span
          ><span class="cell-2 block"
            ><span class="code">{{ one.order }}</span> · {{ one.store }}</span
          >
        </th>
        <td class="max-w-72 px-2.5">
          <span class="block truncate" :title="one.words">{{ one.reason }}{{ one.words ? `: “${one.words}”` : '' }}</span
          ><span class="cell-2 block text-amber-ink!">{{
            one.answer_by ? `the store decides ${dateOf(one.answer_by)} ${timeOf(one.answer_by)}` : 'the store waits'
          }}</span>
        </td>
        <td class="px-2.5 text-right font-bold whitespace-nowrap">{{ money(one.paid) }}</td>
      </RowTable>
      <div v-if="can && chosen" class="flex items-center gap-2 p-2.5">
        <Btn small kind="main" hint="O" :disabled="busy" @click="open()">{{ chosen.case ? 'See its case' : 'Open a case' }}</Btn><Btn
          small
          hint="N"
          @click="begin"
          >Refuse it</Btn
        ><KeyHint keys="J K" message="move" />
      </div>
    </Sight>
    <p v-if="error && !refusing" role="alert" class="m-3 rounded bg-brick-wash px-3 py-2 text-brick">{{ error }}</p>
    <Modal
      v-if="refusing && chosen"
      open
      title="Refuse the return"
      :message="`${chosen.buyer} reads in ${chosen.store} why. This cannot be undone.`"
      @close="refusing = false"
    >
      <label class="block"
        ><span class="label">Why</span><textarea v-model="why" class="field h-20! py-1.5" maxlength="500" data-first />
      </label>
      <p v-if="error" role="alert" class="mt-3 rounded bg-brick-wash px-3 py-2 text-brick">{{ error }}</p>
      <template #acts
        ><Btn @click="refusing = false">Cancel</Btn
        ><Btn kind="loss" :disabled="busy || !why.trim()" @click="refuse">Refuse it</Btn></template
      >
    </Modal>
  </div>
</template>
