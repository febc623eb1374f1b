<script setup lang="ts">
/** Sheets that travel by themselves: what comes from servers of files and by mail, what of ours goes there, and what came of each file. */
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { RouterLink, useRouter } from 'vue-router'
import { ROOT, api, take, type Schema } from '@/api/client'
import { live } from '@/app/live'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Empty from '@/parts/Empty.vue'
import Modal from '@/parts/Modal.vue'
import Sight from '@/parts/Sight.vue'
import Tag from '@/parts/Tag.vue'
import When from '@/parts/When.vue'
import { count, dateOf, fullTime, plural } from '@/parts/format'
import { useRowKeys } from '@/parts/rowKeys'
import RuleForm from './files/RuleForm.vue'
import { allFiles } from './files/queries'

type Rule = Schema<'FileRuleOut'>
type Came = Schema<'FileCameOut'>
const asked = useQuery(allFiles())
const { data } = asked
const rules = computed(() => data.value?.rules ?? [])
const came = computed(() => data.value?.came ?? [])
const adding = ref(false)
const changing = ref<Rule | null>(null)
const removing = ref<Rule | null>(null)
const router = useRouter()
const sources = computed(() => !!data.value && (data.value.servers.length > 0 || data.value.mail))
const active = useRowKeys('Sheets that travel by themselves', 'rule', () => rules.value.length, [
  { key: 'enter', message: 'changes it', run: () => rules.value[active.value] && (changing.value = rules.value[active.value]!) },
])
const params = (id: number) => ({ params: { path: { number: id } } })
const turn = (one: Rule) =>
  act(() =>
    take(api.POST('/api/v1/setup/files/rules/{number}/switch', { ...params(one.id), body: { version: one.version, on: !one.is_on } })),
  )
const now = (one: Rule) => act(() => take(api.POST('/api/v1/setup/files/rules/{number}/now', params(one.id))))
async function remove() {
  const one = removing.value!
  const done = await act(() =>
    take(api.DELETE('/api/v1/setup/files/rules/{number}', { params: { path: { number: one.id }, query: { version: one.version } } })),
  )
  if (done) removing.value = null
}
const again = (one: Came) => act(() => take(api.POST('/api/v1/setup/files/came/{number}/again', params(one.id))))
const leave = (one: Came) => act(() => take(api.POST('/api/v1/setup/files/came/{number}/close', params(one.id))))
const how = (one: Rule) =>
  [
    one.is_out ? one.each && 'one purchase order in each' : one.newest ? 'the newest counts' : 'each is taken',
    one.marker && `whole once ${one.marker} lies beside it`,
    one.done_folder && `then moved to ${one.done_folder}`,
    one.server && `every ${one.minutes} min`,
  ]
    .filter(Boolean)
    .join(', ')
const STATES: Record<string, [string, 'good' | 'loss' | 'waits' | 'info' | 'plain']> = {
  seen: ['not fetched yet', 'plain'],
  gone: ['no longer seen', 'plain'],
  here: ['being taken', 'info'],
  taken: ['taken', 'good'],
  passed: ['passed over', 'plain'],
  wrong: ['not taken', 'loss'],
  closed: ['left so', 'plain'],
}
const SENT: Record<string, [string, 'good' | 'loss' | 'waits' | 'info' | 'plain']> = {
  done: ['is there', 'good'],
  dead: ['rejected', 'loss'],
  dropped: ['taken back', 'plain'],
  'taken back': ['taken back', 'plain'],
}
/** When it is looked at next; ours go as soon as something waits. */
function next(one: Rule): string {
  const minutes = Math.ceil((Date.parse(one.next_at!) - live.now.value) / 60_000)
  if (minutes <= 0) return one.is_out ? 'once something waits' : 'now'
  return minutes < 90 ? `in ${minutes} min` : minutes < 2880 ? `in ${Math.round(minutes / 60)} h` : dateOf(one.next_at!)
}
const nameOf = (path: string) => path.slice(path.lastIndexOf('/') + 1)
</script>

<template>
  <div>
    <div class="mb-3 flex flex-wrap items-center gap-3">
      <h1>Sheets that travel by themselves</h1>
      <span class="text-soft">For partners who leave sheets on a server or send them by mail, and take ours there.</span>
      <span class="ml-auto flex gap-2">
        <Btn @click="router.push('/setup/partners?connect=files')">Connect a server</Btn>
        <Btn v-if="sources" kind="main" @click="adding = true">New rule</Btn>
      </span>
    </div>
    <div class="sheet">
      <Sight :of="asked" :empty="!rules.length" :lines="5">
        <template #empty
          ><Empty
            :title="sources ? 'Nothing travels by itself yet' : 'No server of files is connected'"
            :message="
              sources
                ? 'Say which sheet of which partner comes from where, or goes there. What lies there now is shown before anything is taken.'
                : 'Connect one first: over SSH (SFTP), sealed FTP, WebDAV, an S3-compatible bucket or a web server. Files attached to mail need a mailbox that is read.'
            "
        /></template>
        <table class="w-full table-fixed">
          <thead>
            <tr class="h-8 text-2xs text-soft">
              <th class="w-[17%] px-3 text-left">Partner</th>
              <th class="w-[17%] px-2 text-left">Sheet</th>
              <th class="px-2 text-left">Where, and how</th>
              <th class="w-[13%] px-2 text-left">Next</th>
              <th class="w-[270px] px-3" />
            </tr>
          </thead>
          <tbody>
            <tr
              v-for="(one, n) in rules"
              :key="one.id"
              class="h-12 border-t border-rule-2"
              :class="[n === active && 'bg-shade', !one.is_on && 'text-soft']"
            >
              <td class="truncate px-3 font-semibold" :title="one.partner">{{ one.partner }}</td>
              <td class="px-2">
                {{ one.called }}<span class="block text-2xs text-soft">{{ one.is_out ? 'goes out' : 'comes in' }}</span>
              </td>
              <td class="px-2">
                <span class="block truncate" :title="`${one.place}: ${one.pattern}`"
                  >{{ one.place }}: <span class="code">{{ one.pattern }}</span></span
                ><span class="block truncate text-2xs text-soft" :title="how(one)">{{ how(one) }}</span>
                <span v-if="one.sent.length" class="flex items-center gap-1.5 text-2xs text-soft"
                  ><span class="truncate" :title="one.sent[0]!.path">last: {{ nameOf(one.sent[0]!.path) }}</span>
                  <Tag :tone="(SENT[one.sent[0]!.state] ?? ['', 'info'])[1]">{{
                    (SENT[one.sent[0]!.state] ?? ['on its way'])[0]
                  }}</Tag><span v-if="one.sent[0]!.message" class="truncate text-brick" :title="one.sent[0]!.message">{{
                    one.sent[0]!.message
                  }}</span></span
                >
              </td>
              <td class="px-2 text-soft">
                <Tag v-if="!one.is_on">off</Tag><template v-else-if="!one.server">with the mail</template
                ><time v-else-if="one.next_at" :datetime="one.next_at" :title="fullTime(one.next_at)">{{ next(one) }}</time
                ><template v-else>soon</template>
              </td>
              <td class="px-3">
                <span class="flex justify-end gap-1.5">
                  <Btn
                    v-if="one.server && one.is_on"
                    small
                    :aria-label="`${one.is_out ? 'Send' : 'Look'} now: ${one.partner}, ${one.called}`"
                    @click="now(one)"
                    >{{ one.is_out ? 'Send now' : 'Look now' }}</Btn
                  >
                  <Btn small :aria-label="`${one.is_on ? 'Off' : 'On'}: ${one.partner}, ${one.called}`" @click="turn(one)">{{
                    one.is_on ? 'Off' : 'On'
                  }}</Btn>
                  <Btn small :aria-label="`Change: ${one.partner}, ${one.called}`" @click="changing = one">Change</Btn>
                  <Btn small :aria-label="`Remove: ${one.partner}, ${one.called}`" @click="removing = one">Remove</Btn>
                </span>
              </td>
            </tr>
          </tbody>
        </table>
      </Sight>
    </div>
    <template v-if="came.length">
      <h2 class="mt-5 mb-2">Files that came</h2>
      <div class="sheet">
        <table class="w-full table-fixed">
          <thead>
            <tr class="h-8 text-2xs text-soft">
              <th class="w-[26%] px-3 text-left">File</th>
              <th class="w-[19%] px-2 text-left">Of</th>
              <th class="w-[108px] px-2 text-left">State</th>
              <th class="px-2 text-left">What came of it</th>
              <th class="w-[96px] px-3 text-right">Seen</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="one in came" :key="one.id" class="border-t border-rule-2 align-top" :class="one.needs && 'bg-amber-wash/40'">
              <td class="truncate px-3 py-2" :title="`${one.path}, ${count(one.size)} bytes`">
                <a v-if="one.copy_kept" class="code underline" :href="`${ROOT}/api/v1/setup/files/came/${one.id}/file`" download>{{
                  nameOf(one.path)
                }}</a><span v-else class="code">{{ nameOf(one.path) }}</span>
              </td>
              <td class="truncate px-2 py-2" :title="`${one.partner}: ${one.called}`">
                {{ one.partner }}<span class="block truncate text-2xs text-soft">{{ one.called }}</span>
              </td>
              <td class="px-2 py-2">
                <Tag :tone="STATES[one.state]![1]">{{ STATES[one.state]![0] }}</Tag>
              </td>
              <td class="px-2 py-2">
                <span class="block" :class="one.state === 'wrong' && 'text-brick'">{{ one.message }}</span><a
                  v-if="one.bad && one.copy_kept"
                  class="font-semibold text-slate underline"
                  :href="`${ROOT}/api/v1/setup/files/came/${one.id}/bad.csv`"
                  download
                  >{{ plural(one.bad, 'row') }} not taken, with why</a
                >
                <span v-if="one.needs || one.state === 'wrong'" class="mt-1 flex flex-wrap gap-1.5">
                  <Btn v-if="one.again" small @click="again(one)">Take it again</Btn>
                  <Btn v-if="one.needs" small @click="leave(one)">Leave it so</Btn>
                </span>
              </td>
              <td class="px-3 py-2 text-right text-soft"><When :at="one.seen_at" clock /></td>
            </tr>
          </tbody>
        </table>
      </div>
      <p class="mt-2 text-soft">
        Where the columns of a sheet cannot be told, bring it in once by hand under
        <RouterLink class="text-slate underline" to="/setup/partners">its partner</RouterLink> or its station and name them; sheets of that
        make are read by themselves from then on.
      </p>
    </template>
    <RuleForm v-if="adding && data" :files="data" @close="adding = false" />
    <RuleForm v-if="changing && data" :key="changing.id" :files="data" :rule="changing" @close="changing = null" />
    <Modal
      v-if="removing"
      open
      :title="`Remove: ${removing.partner}, ${removing.called}?`"
      message="What is remembered of its files is forgotten; a rule like it would take those that lie there once more. This cannot be undone; it can be turned off instead."
      @close="removing = null"
    >
      <template #acts><Btn @click="removing = null">Cancel</Btn><Btn kind="loss" @click="remove">Remove it</Btn></template>
    </Modal>
  </div>
</template>
