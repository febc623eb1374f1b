<script setup lang="ts">
/** Acts above somebody's limit: what waits for a word, whole or in part, and what became of others. */
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { useKeys } from '@/app/keys'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Sight from '@/parts/Sight.vue'
import Tag from '@/parts/Tag.vue'
import When from '@/parts/When.vue'
import { money, number } from '@/parts/format'
import { homeMoney } from '@/parts/home'
import { approvalsQuery } from './queries'

type Row = Schema<'ApprovalOut'>
const asked = useQuery(approvalsQuery())
const rows = computed(() => asked.data.value ?? [])
const waits = computed(() => rows.value.filter((one) => one.decides))
const others = computed(() => rows.value.filter((one) => !one.decides))
/** What of each is left out; and why one is refused. */
const left = reactive<Record<number, Set<number>>>({})
const why = reactive<Record<number, string>>({})
const cursor = ref(0)
const out = (row: Row, part: number) => left[row.id]?.has(part) ?? false
function toggle(row: Row, part: number) {
  const next = new Set(left[row.id])
  if (!next.delete(part)) next.add(part)
  left[row.id] = next
}
const chosen = (row: Row) => row.parts.filter((one) => !out(row, one.id))
const sum = (row: Row) =>
  left[row.id]?.size ? homeMoney(chosen(row).reduce((all, one) => all + number(one.amount), 0)) : row.amount ? money(row.amount) : '?'
function approve(row: Row) {
  const parts = left[row.id]?.size ? chosen(row).map((one) => one.id) : null
  // What it answers is what the act itself says.
  void act(() =>
    take(api.POST('/api/v1/approvals/{number}/approve', { params: { path: { number: row.id } }, body: { parts } })).then(
      (done) => done as { message: string },
    ),
  )
}
const refuse = (row: Row) =>
  void act(() =>
    take(
      api.POST('/api/v1/approvals/{number}/refuse', {
        params: { path: { number: row.id } },
        body: { version: row.version, reason: why[row.id] ?? '' },
      }),
    ),
  )
const withdraw = (row: Row) =>
  void act(() => take(api.POST('/api/v1/approvals/{number}/withdraw', { params: { path: { number: row.id } } })))
const current = computed(() => waits.value[Math.min(cursor.value, waits.value.length - 1)])
const go = (to: number) => (cursor.value = Math.max(0, Math.min(to, waits.value.length - 1)))
useKeys('Your word', [
  { key: 'j', message: 'next', run: () => go(cursor.value + 1) },
  { key: 'k', message: 'the one before', run: () => go(cursor.value - 1) },
  { key: 'a', message: 'approve it', run: () => current.value && approve(current.value) },
])
const STATES: Record<string, string> = { waiting: 'Waits', approved: 'Approved', refused: 'Refused' }
</script>

<template>
  <div class="h-full overflow-auto p-4.5">
    <h1 class="mb-3">{{ waits.length ? 'What waits for your word' : 'Nothing waits for your word' }}</h1>
    <Sight :of="asked" :lines="3" />
    <!-- eslint-disable-next-line vuejs-accessibility/click-events-have-key-events, vuejs-accessibility/no-static-element-interactions -- arrow keys move the cursor too -->
    <article
      v-for="(one, n) in waits"
      :key="one.id"
      class="sheet mb-3 max-w-4xl p-4"
      :class="n === cursor ? 'border-asphalt!' : ''"
      :aria-label="one.message"
      @click="cursor = n"
    >
      <div class="flex items-baseline gap-3">
        <h2 class="min-w-0 flex-1 first-letter:uppercase">{{ one.message }}</h2>
        <span class="text-soft"><When :at="one.at" /></span>
      </div>
      <p class="mt-1">
        <b>{{ one.who }}</b> asks for it<template v-if="one.why">: {{ one.why }}</template
        >. <span class="text-soft">{{ one.reason }}.</span>
      </p>
      <ul v-if="one.parts.length" class="mt-2 max-h-64 overflow-auto rounded border border-rule-2">
        <li v-for="part in one.parts" :key="part.id" class="border-b border-rule-2 px-3 py-1 last:border-0">
          <label class="flex min-h-7 items-center gap-2"
            ><input type="checkbox" class="size-4 accent-pine" :checked="!out(one, part.id)" @change="toggle(one, part.id)" /><span
              class="min-w-0 flex-1 truncate"
              >{{ part.name }}</span
            ><span>{{ money(part.amount) }}</span></label
          >
        </li>
      </ul>
      <div class="mt-3 flex items-center gap-3">
        <Btn kind="main" :hint="n === cursor ? 'A' : undefined" :disabled="!!one.parts.length && !chosen(one).length" @click="approve(one)"
          >Do it, {{ sum(one) }}</Btn
        ><input
          v-model="why[one.id]"
          class="field max-w-sm flex-1"
          placeholder="why not, for who asked"
          :aria-label="`Why not: ${one.message}`"
          maxlength="300"
        /><Btn @click="refuse(one)">Refuse</Btn>
      </div>
    </article>
    <template v-if="others.length">
      <h2 class="mt-5 mb-1.5">Asked for and decided</h2>
      <div class="sheet max-w-4xl">
        <table class="w-full table-fixed">
          <tbody>
            <tr v-for="one in others" :key="one.id" class="h-11 border-b border-rule-2 last:border-0">
              <td class="px-3" style="width: 100px">
                <Tag :tone="one.state === 'waiting' ? 'waits' : one.state === 'approved' ? 'good' : 'loss'">{{ STATES[one.state] }}</Tag>
              </td>
              <td class="px-2">
                <span class="block truncate font-semibold first-letter:uppercase" :title="one.message">{{ one.message }}</span><span
                  class="block truncate text-xs text-soft"
                  >asked by {{ one.mine ? 'you' : one.who }}<template v-if="one.decided_who">, decided by {{ one.decided_who }}</template
                  ><template v-if="one.decision">: {{ one.decision }}</template></span
                >
              </td>
              <td class="px-2 text-right text-soft" style="width: 110px"><When :at="one.decided_at ?? one.at" /></td>
              <td class="px-3 text-right" style="width: 150px">
                <Btn v-if="one.mine && one.state === 'waiting'" small @click="withdraw(one)">Ask no more</Btn>
              </td>
            </tr>
          </tbody>
        </table>
      </div>
    </template>
  </div>
</template>
