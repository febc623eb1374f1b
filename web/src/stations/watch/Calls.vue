<script setup lang="ts">
/** Where the calls of a supplier go that tells one item a call, and what that saves against taking turns. */
import { useQuery } from '@tanstack/vue-query'
import { type Schema } from '@/api/client'
import Empty from '@/parts/Empty.vue'
import { count, fixed, money, number, percent } from '@/parts/format'
import Sight from '@/parts/Sight.vue'
import { callsQuery } from './queries'

const asked = useQuery({ ...callsQuery(), meta: { live: false } })
const { data } = asked
type Plan = Schema<'CallsOut'>
const top = (plan: Plan) => Math.max(1, ...plan.bins.map((one) => one.count))
const saved = (plan: Plan) => {
  const turns = number(plan.turns)
  return turns ? 100 - (number(plan.loss) * 100) / turns : 0
}
</script>

<template>
  <div class="min-h-0 flex-1 overflow-auto">
    <Sight :of="asked" />
    <section v-for="plan in data ?? []" :key="plan.supplier" class="sheet mb-3 p-4">
      <div class="flex items-baseline gap-3">
        <h2 class="text-base!">{{ plan.name }}</h2>
        <p class="text-soft">
          tells one item a call; {{ count(plan.calls) }} calls a day go to sweeps, {{ plan.a_sweep }} at a time, {{ plan.hours }};
          {{ count(plan.today) }} were used today
        </p>
      </div>
      <p class="mt-2">
        Being late about its {{ count(plan.used) }} items that lanes use is expected to cost <b>{{ money(plan.loss) }} a month</b>. In
        turns, with the same calls, it would be <b>{{ money(plan.turns) }}</b><template v-if="saved(plan) > 0.5"
          >: the plan saves <b class="text-pine">{{ percent(saved(plan), 0) }}</b> of it</template
        >. {{ count(plan.unused) }} items that no lane uses are looked at once a week.
      </p>
      <div class="mt-3 grid grid-cols-[260px_minmax(0,1fr)] gap-6">
        <div>
          <h3 class="mb-2 text-xs font-bold">Looks a day, used items</h3>
          <p v-for="{ name, count: n } in plan.bins" :key="name" class="grid grid-cols-[92px_1fr_34px] items-center gap-2 py-0.5 text-xs">
            <span class="text-soft">{{ name }}</span><span class="h-3"
              ><span class="block h-full bg-asphalt" :style="{ width: `${(n / top(plan)) * 100}%` }" /></span
            ><span class="text-right">{{ count(n) }}</span>
          </p>
        </div>
        <table class="w-full self-start">
          <thead>
            <tr class="h-7 border-b border-rule text-2xs text-soft">
              <th>Looked at most, and least</th>
              <th class="text-right">Looked at</th>
              <th class="text-right">Changes a day</th>
              <th class="text-right">A day of being wrong</th>
            </tr>
          </thead>
          <tbody>
            <tr
              v-for="(one, n) in [...plan.most, ...plan.least]"
              :key="one.item"
              class="h-8 border-b border-rule-2"
              :class="n === plan.most.length && n ? 'border-t-2 border-t-rule' : ''"
            >
              <td class="max-w-0 truncate pr-3" :title="one.title">
                <RouterLink class="hover:underline" :to="`/item/${one.item}`"
                  ><span class="code mr-2 text-soft">{{ one.number }}</span
                  >{{ one.title }}</RouterLink
                >
              </td>
              <td class="text-right whitespace-nowrap">{{ one.every }}</td>
              <td class="text-right">{{ fixed(one.changes, 2) }}</td>
              <td class="text-right">{{ money(one.wrong) }}</td>
            </tr>
          </tbody>
        </table>
      </div>
    </section>
    <Empty
      v-if="data && !data.length"
      title="No supplier tells one item a call"
      message="All of yours tell everything at once, so there is nothing to plan. A retail site that is asked item by item would stand here."
    />
  </div>
</template>
