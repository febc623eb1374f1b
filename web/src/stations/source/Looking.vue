<script setup lang="ts">
/** Searches that run by themselves, and what each found lately. */
import { useQuery } from '@tanstack/vue-query'
import { useRouter } from 'vue-router'
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Empty from '@/parts/Empty.vue'
import When from '@/parts/When.vue'
import Sight from '@/parts/Sight.vue'
import { count } from '@/parts/format'
import { savedQuery } from './queries'

const router = useRouter()
const asked = useQuery(savedQuery())
const { data } = asked
const BRING: Record<string, string> = { report: 'reports only', prepared: 'brings in as prepared', live: 'publishes at once' }
const path = (one: Schema<'SavedOut'>) => ({ params: { path: { number: one.id } } })
function open(one: Schema<'SavedOut'>) {
  const query = Object.fromEntries(
    one.filters
      .split(';')
      .filter(Boolean)
      .map((pair) => pair.split(':') as [string, string]),
  )
  void router.push({ path: '/source', query: { ...query, words: one.words } })
}
</script>

<template>
  <div class="min-h-0 max-w-5xl flex-1 overflow-auto">
    <Sight :of="asked" />
    <Empty
      v-if="data && !data.length"
      title="Nothing looks by itself yet"
      message="Search for something, narrow it until it is what you want, then press Save search: new items that fit come in by themselves."
    />
    <article v-for="one in data ?? []" :key="one.id" class="sheet mb-3 p-4">
      <div class="flex items-start gap-3">
        <div class="min-w-0">
          <h2>{{ one.name }}</h2>
          <p class="text-soft">
            for {{ one.store }}, every {{ one.every_hours }} h, {{ BRING[one.bring] }}, at most {{ one.daily_limit }} a day<template
              v-if="one.next_at"
              >; looks next <When :at="one.next_at" clock
            /></template>
          </p>
        </div>
        <span class="ml-auto flex shrink-0 gap-2"
          ><Btn small @click="open(one)">Open the search</Btn
          ><Btn small @click="act(() => take(api.POST('/api/v1/source/saved/{number}/run', path(one))))">Look now</Btn
          ><Btn small @click="act(() => take(api.DELETE('/api/v1/source/saved/{number}', path(one))))">Stop looking</Btn></span
        >
      </div>
      <table v-if="one.reports.length" class="mt-2 w-full">
        <tbody>
          <tr v-for="report in one.reports" :key="report.at" class="h-7 border-t border-rule-2">
            <td class="w-28 text-soft"><When :at="report.at" clock /></td>
            <td>{{ report.message }}</td>
            <td class="text-right text-soft">{{ count(report.fit) }} fit in all</td>
          </tr>
        </tbody>
      </table>
      <p v-else class="mt-2 text-soft">It has not looked yet.</p>
    </article>
  </div>
</template>
