<script setup lang="ts">
/** Cases: what waits for whom, since when, until when, how much; beside it the chosen one with its story. */
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { api, take } from '@/api/client'
import { limited, may } from '@/app/may'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Pills from '@/parts/Pills.vue'
import RowTable from '@/parts/RowTable.vue'
import SheetIn from '@/parts/SheetIn.vue'
import Sight from '@/parts/Sight.vue'
import Tag from '@/parts/Tag.vue'
import When from '@/parts/When.vue'
import { dayOf, money } from '@/parts/format'
import { useRowKeys } from '@/parts/rowKeys'
import AskedBack from './AskedBack.vue'
import BuyerMails from './BuyerMails.vue'
import ComingBack from './ComingBack.vue'
import { STATES, WAITS, askedQuery, casesQuery, comingQuery, mailsQuery, type CaseRow } from './cases'

const emit = defineEmits<{ chosen: [id: number] }>()
const route = useRoute()
const show = ref<'open' | 'done'>('open')
const bring = ref(false)
const asked = useQuery(computed(() => casesQuery(show.value)))
const rows = computed<CaseRow[]>(() => asked.data.value ?? [])
const active = useRowKeys('Cases', 'case', () => rows.value.length)
const wanted = computed(() => Number(route.query.case) || 0)
watch(
  [wanted, () => rows.value.length],
  () => {
    const at = rows.value.findIndex((one) => one.id === wanted.value)
    if (at >= 0) active.value = at
  },
  { immediate: true },
)
// A case that is not in the list, as one that is settled, is shown all the same where its address names it.
const chosen = computed(() =>
  wanted.value && !rows.value.some((one) => one.id === wanted.value) ? wanted.value : (rows.value[active.value]?.id ?? 0),
)
const { data: mails } = useQuery(mailsQuery())
const { data: backs } = useQuery(askedQuery())
const { data: coming } = useQuery(comingQuery())
/** What stands here instead of the cases: buyers' mails, returns asked for, or goods coming back; as somebody follows one. */
const other = ref<'' | 'mails' | 'asked' | 'coming'>(route.query.mail ? 'mails' : route.query.asked ? 'asked' : '')
watch([() => route.query.mail, () => route.query.asked], ([mail, back]) => {
  if (mail || back) other.value = mail ? 'mails' : 'asked'
})
const comingCase = ref(0)
/** Those that nobody has asked for yet: asked at once, in one mail to each supplier that is written to. */
const unasked = computed(() =>
  show.value === 'open' && may('claim') ? rows.value.filter((one) => one.state === 'open').map((one) => one.id) : [],
)
const askAll = () => void act(() => take(api.POST('/api/v1/claims/ask-many', { body: { claims: unasked.value } })))
const pills = computed(() => [
  { key: 'open', label: 'Open' },
  { key: 'mails', label: 'Buyers’ mails', count: mails.value?.length ?? 0, waits: true },
  { key: 'asked', label: 'Returns asked for', count: backs.value?.length ?? 0, waits: true },
  { key: 'coming', label: 'Coming back', count: coming.value?.length ?? 0 },
  { key: 'done', label: 'Settled and let go' },
])
watch(
  () => route.query.case,
  (one) => one && other.value !== 'coming' && (other.value = ''),
)
const shown = computed(() => (other.value === 'coming' ? comingCase.value : other.value ? 0 : chosen.value))
watch(shown, (id) => emit('chosen', id), { immediate: true })
function turn(key: string) {
  other.value = key === 'open' || key === 'done' ? '' : (key as 'mails' | 'asked' | 'coming')
  if (!other.value) show.value = key as 'open' | 'done'
}
</script>

<template>
  <div class="flex items-center gap-3">
    <Pills :options="pills" :chosen="other || show" label="Which cases" @choose="turn" />
    <Btn v-if="unasked.length > 1 && !other" small class="ml-auto" @click="askAll">Ask for the {{ unasked.length }} not asked yet</Btn
    ><Btn v-if="may('claim') && !limited && !other" small :class="unasked.length > 1 ? '' : 'ml-auto'" @click="bring = true"
      >Import answers</Btn
    ><SheetIn :open="bring" sheet="claim_answers" title="Import suppliers' answers to claims" @close="bring = false" />
  </div>
  <BuyerMails v-if="other === 'mails'" @opened="turn('open')" />
  <AskedBack v-else-if="other === 'asked'" @opened="turn('open')" />
  <ComingBack v-else-if="other === 'coming'" @chosen="comingCase = $event" />
  <div v-else class="sheet min-h-0 flex-1 overflow-auto">
    <Sight
      :of="asked"
      :lines="6"
      :empty="!rows.length"
      :title="show === 'open' ? 'No case is open' : 'No case is settled yet'"
      message="Open one from a parcel, or from the lines of an order: money comes back only to who asks in time."
    >
      <RowTable
        v-slot="{ one }"
        :heads="['Order and goods', 'What is wrong', 'State', 'Waits for', 'Until', show === 'open' ? 'Asked' : 'Came back']"
        :right="[4, 5]"
        :rows="rows"
        :key-of="(one) => one.id"
        :active="active"
        height="h-12"
        @choose="active = $event"
      >
        <th scope="row" class="max-w-64 px-2.5 font-normal">
          <span class="block truncate" :title="one.title"
            ><span class="code">{{ one.order }}</span> {{ one.title }}</span
          ><span class="cell-2 block">{{ one.supplier }} · {{ one.store }}</span>
        </th>
        <td class="px-2.5">
          {{ one.reason }}<span class="cell-2 block">opened <When :at="one.opened_at" /></span>
        </td>
        <td class="px-2.5">
          <Tag :tone="STATES[one.state]?.tone">{{ STATES[one.state]?.label ?? one.state }}</Tag>
        </td>
        <td class="px-2.5">{{ WAITS[one.waits_for] }}</td>
        <td class="px-2.5 text-right whitespace-nowrap">{{ one.until ? dayOf(one.until) : '' }}</td>
        <td class="px-2.5 text-right font-bold whitespace-nowrap">
          {{ show === 'open' ? (one.wish === 'again' ? 'a new one' : money(one.amount)) : money(one.came_back) }}
        </td>
      </RowTable>
    </Sight>
  </div>
</template>
