<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api, take } from '@/api/client'
import { useKeys } from '@/app/keys'
import { limited, may } from '@/app/may'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import KeyHint from '@/parts/KeyHint.vue'
import Sight from '@/parts/Sight.vue'
import Tag from '@/parts/Tag.vue'
import When from '@/parts/When.vue'
import { count, money, number, percent, plural, timeOf } from '@/parts/format'
import DayBars from './DayBars.vue'
import GiveTo from './GiveTo.vue'
import FirstSteps from './FirstSteps.vue'
import FlowPicture from './FlowPicture.vue'
import Members from './Members.vue'
import { homeMoney } from '@/parts/home'
import LeftOut from '@/parts/LeftOut.vue'
import { firstStepsQuery, todayQuery } from './queries'

const router = useRouter()
const asked = useQuery(todayQuery())
const { data, error } = asked
const steps = useQuery({ ...firstStepsQuery(), enabled: () => may('settings') })
/** What of the house they see: its books, and how all its orders stand. */
const books = computed(() => may('see books'))
const whole = computed(() => may('see orders', 'see money') && !limited.value)
const openSteps = computed(() => (steps.data.value ?? []).filter((one) => one.state === 'open' || one.state === 'later').length)
const cursor = ref(0)
const rows = computed(() => data.value?.alerts ?? [])
const current = computed(() => rows.value[Math.min(cursor.value, rows.value.length - 1)])
const open = ref<string | null>(null)

/** What is chosen where a step asks for one: what stands in the row, at first the likeliest. */
const picked = reactive<Record<string, string>>({})
watch(
  rows,
  (all) => {
    for (const { key, choices } of all)
      if (choices.length && !choices.some((one) => one.value === picked[key])) picked[key] = choices[0]!.value
  },
  { immediate: true },
)

function step(key: string, other = false) {
  const trouble = rows.value.find((one) => one.key === key)
  const way = other ? trouble?.other : trouble?.step
  if (!way) return
  if (!way.act) return void router.push(way.go)
  const choice = trouble?.choices.length ? picked[key] : undefined
  void act(() => take(api.POST('/api/v1/today/step', { body: { key, other, choice } })))
}
const snooze = (key: string, until_change = false) =>
  void act(() => take(api.POST('/api/v1/today/snooze', { body: { key, hours: 4, until_change } })))
function go(to: number) {
  cursor.value = Math.max(0, Math.min(to, rows.value.length - 1))
  document.getElementById(`trouble-${cursor.value}`)?.scrollIntoView({ block: 'nearest' })
}
useKeys('Today', [
  { key: 'j', message: 'next', run: () => go(cursor.value + 1) },
  { key: 'arrowdown', message: 'next', run: () => go(cursor.value + 1) },
  { key: 'k', message: 'the one before', run: () => go(cursor.value - 1) },
  { key: 'arrowup', message: 'the one before', run: () => go(cursor.value - 1) },
  { key: 'a', message: 'do the step', run: () => current.value && step(current.value.key) },
  { key: 'o', message: 'the other way on', run: () => current.value?.other && step(current.value.key, true) },
  { key: 'u', message: 'not now, until it changes', run: () => current.value && snooze(current.value.key, true) },
  { key: 's', message: 'not now, in 4 hours', run: () => current.value && snooze(current.value.key) },
  {
    key: 'enter',
    message: 'see why',
    run: () => current.value && (open.value = open.value === current.value.key ? null : current.value.key),
  },
])
const total = computed(() => (data.value?.days ?? []).reduce((sum, day) => sum + number(day.profit), 0))
const sales = computed(() => (data.value?.days ?? []).reduce((sum, day) => sum + number(day.sales), 0))
</script>

<template>
  <div class="grid h-full" :class="whole ? 'grid-cols-[minmax(0,1fr)_260px] min-[1180px]:grid-cols-[minmax(0,1fr)_410px]' : ''">
    <section class="min-w-0 overflow-auto p-4.5">
      <div class="mb-3 flex items-baseline gap-3">
        <h1 class="shrink-0">
          {{
            !data
              ? 'Today'
              : rows.length
                ? `${plural(rows.length, 'thing')} ${rows.length === 1 ? 'needs' : 'need'} you`
                : error || (may('settings') && !steps.data.value)
                  ? 'Today'
                  : openSteps
                    ? `${plural(openSteps, 'first step')} ${openSteps === 1 ? 'is' : 'are'} open`
                    : 'Nothing needs you'
          }}
        </h1>
        <p v-if="rows.length" class="text-soft">
          {{ may('see money') ? 'dearest first' : 'what matters most first'
          }}<template v-if="number(data!.a_day) || number(data!.once)"
            >: <b v-if="number(data!.a_day)" class="text-ink">{{ money(data!.a_day) }} a day</b
            ><template v-if="number(data!.a_day) && number(data!.once)"> and </template
            ><b v-if="number(data!.once)" class="text-ink">{{ money(data!.once) }}{{ number(data!.a_day) ? ' once' : '' }}</b> at risk until
            they are settled</template
          >
        </p>
      </div>
      <FirstSteps v-if="openSteps" :steps="steps.data.value!" />
      <div v-if="!openSteps || rows.length || !data" class="sheet overflow-hidden">
        <Sight
          :of="asked"
          :empty="!rows.length"
          title="All is settled"
          message="What comes next appears here by itself, dearest first."
          :lines="8"
        >
          <table class="w-full table-fixed">
            <colgroup>
              <col style="width: 92px" />
              <col />
              <col style="width: 104px" />
              <col style="width: 76px" />
              <col class="w-[196px] min-[1180px]:w-[268px]" />
            </colgroup>
            <thead>
              <tr class="h-8 border-b border-rule text-2xs text-soft">
                <th class="px-2.5">Kind</th>
                <th class="px-2.5">What happened</th>
                <th class="px-2.5 text-right">{{ may('see money') ? 'At risk' : '' }}</th>
                <th class="px-2.5 text-right">Waiting</th>
                <th class="px-2.5">Best next step</th>
              </tr>
            </thead>
            <tbody>
              <template v-for="(one, i) in rows" :key="one.key">
                <tr
                  :id="`trouble-${i}`"
                  class="h-[38px] border-b border-rule-2"
                  :class="cursor === i ? 'bg-shade' : 'hover:bg-shade/60'"
                  @click="cursor = i"
                >
                  <td class="relative px-2.5">
                    <span
                      class="absolute inset-y-0 left-0 w-[3px]"
                      :class="cursor === i ? 'bg-asphalt' : 'bg-amber'"
                      aria-hidden="true"
                    /><Tag :tone="one.tone === 'loss' ? 'loss' : 'waits'">{{ one.kind }}</Tag>
                  </td>
                  <td class="px-2.5" :class="cursor === i ? 'font-bold' : ''" :title="`${one.message}\n${one.reason}`">
                    <span class="flex items-center gap-2"
                      ><Tag v-if="one.given" :tone="one.mine ? 'info' : 'plain'">{{ one.mine ? 'yours' : one.given }}</Tag
                      ><span class="truncate">{{ one.message }}</span
                      ><button
                        v-if="one.members.length > 1 || cursor === i || open === one.key"
                        type="button"
                        class="shrink-0 text-xs font-normal text-slate hover:underline"
                        :aria-expanded="open === one.key"
                        @click.stop="((cursor = i), (open = open === one.key ? null : one.key))"
                      >
                        {{ open === one.key ? 'close' : one.members.length > 1 ? 'open' : 'why' }}
                      </button></span
                    >
                  </td>
                  <td class="px-2.5 text-right font-semibold whitespace-nowrap">
                    {{ number(one.at_risk) ? money(one.at_risk) + (one.per_day ? ' / day' : '') : may('see money') ? '–' : '' }}
                  </td>
                  <td class="px-2.5 text-right text-soft"><When :at="one.since" /></td>
                  <td class="px-2.5 whitespace-nowrap">
                    <span class="flex min-w-0 items-center">
                      <select
                        v-if="one.choices.length"
                        v-model="picked[one.key]"
                        class="field mr-1.5 h-7! w-24! py-0! min-[1180px]:w-32!"
                        :aria-label="one.message"
                        @click.stop="cursor = i"
                      >
                        <option v-for="choice in one.choices" :key="choice.value" :value="choice.value">{{ choice.name }}</option>
                      </select>
                      <Btn
                        small
                        :kind="cursor === i ? 'main' : 'plain'"
                        :hint="cursor === i ? 'A' : undefined"
                        @click.stop="step(one.key)"
                        >{{ one.step.label }}</Btn
                      >
                      <Btn
                        v-if="one.other && cursor === i && !one.choices.length"
                        small
                        kind="link"
                        class="min-w-0"
                        :title="one.other.label"
                        @click.stop="step(one.key, true)"
                        >{{ one.other.label }}</Btn
                      ></span
                    >
                  </td>
                </tr>
                <tr v-if="open === one.key" class="border-b border-rule-2 bg-shade">
                  <td />
                  <td colspan="4" class="px-2.5 pb-3">
                    <p>{{ one.reason }}</p>
                    <Members v-if="one.members.length" :row="one" />
                    <p class="mt-1 flex items-center gap-3">
                      <GiveTo :row="one" />
                      <Btn v-if="one.other" small @click="step(one.key, true)">{{ one.other.label }}</Btn>
                      <Btn small kind="link" @click="snooze(one.key)">Not now, in 4 hours</Btn
                      ><Btn small kind="link" @click="snooze(one.key, true)">When it changes</Btn
                      ><Btn v-if="one.station !== 'today'" small kind="link" @click="router.push(one.step.go || `/${one.station}`)"
                        >Open {{ one.station }}</Btn
                      >
                    </p>
                  </td>
                </tr>
              </template>
            </tbody>
          </table>
        </Sight>
      </div>
      <div v-if="rows.length" class="mt-2.5 flex gap-4">
        <KeyHint keys="J K" message="move" /><KeyHint keys="A" message="do the step" /><KeyHint keys="Enter" message="see why" /><KeyHint
          keys="S"
          message="not now"
        />
      </div>
      <div v-if="data && books" class="sheet mt-4 p-3.5">
        <div class="flex justify-between">
          <h2>Profit after all costs, last 14 days</h2>
          <p class="text-soft">
            {{ homeMoney(total) }}<span v-if="sales">, {{ percent((total * 100) / sales) }} of sales</span>
          </p>
        </div>
        <LeftOut :of="data.left_out" />
        <DayBars :days="data.days" />
      </div>
    </section>
    <aside
      v-if="whole"
      class="min-w-0 overflow-auto border-l border-rule bg-sheet p-4.5"
      aria-label="Open lines and what was done without you"
    >
      <h2>Open lines by lane</h2>
      <FlowPicture v-if="data?.flow.length" :flow="data.flow" />
      <p v-else-if="data" class="mt-2 text-soft">No order line is open.</p>
      <h2 class="mt-5">Done automatically</h2>
      <ul v-if="data?.alone.length" class="mt-1">
        <li v-for="one in data.alone" :key="one.id" class="grid grid-cols-[46px_1fr] gap-1 border-b border-rule-2 py-2.5">
          <span class="font-mono text-xs text-soft">{{ timeOf(one.at) }}</span><span
            ><b class="line-clamp-3 first-letter:uppercase" :title="one.message">{{ one.message }}</b
            ><span class="line-clamp-2 text-xs text-soft">{{ one.reason }}</span
            ><RouterLink v-if="one.times > 1" class="block text-xs text-slate hover:underline" :to="`/setup/log?kind=${one.kind}`"
              >and {{ one.times - 1 }} more like it since {{ timeOf(one.since) }}, {{ count(one.count) }} in all</RouterLink
            ></span
          >
        </li>
      </ul>
      <p v-else-if="data" class="mt-1 text-soft">Sweeps, price changes and purchases that needed nobody are shown here.</p>
    </aside>
  </div>
</template>
