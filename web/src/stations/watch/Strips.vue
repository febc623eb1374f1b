<script setup lang="ts">
/** One strip per supplier: a mark per sweep, its height the changes it found. */
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { useRouter } from 'vue-router'
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Tag from '@/parts/Tag.vue'
import { plural, timeOf } from '@/parts/format'
import Sight from '@/parts/Sight.vue'
import { stripsQuery } from './queries'

const router = useRouter()
const asked = useQuery(stripsQuery())
const { data } = asked
type Strip = Schema<'Strip'>
const top = computed(() => Math.max(1, ...(data.value ?? []).flatMap((strip) => strip.marks.map((mark) => mark.changes))))
const tall = (mark: Schema<'Mark'>) => 3 + (mark.changes / top.value) * 23
const tone = (state: string) =>
  state === 'held' || state === 'stale' ? 'bg-amber' : state === 'failed' ? 'bg-brick' : state === 'kept' ? 'bg-rule' : 'bg-faint'
function state(strip: Strip): { tone: 'good' | 'waits' | 'loss' | 'plain'; text: string } {
  const last = strip.marks.at(-1)
  if (!strip.watching && strip.kind === 'sheet') return { tone: 'plain', text: 'by sheets' }
  if (!strip.watching) return { tone: 'plain', text: 'not watched' }
  if (strip.stale) return { tone: 'loss', text: 'stock not believed' }
  if (last?.state === 'held') return { tone: 'loss', text: `held ${timeOf(last.started)}` }
  if (last?.state === 'failed' || last?.state === 'stale')
    return { tone: 'waits', text: last.state === 'stale' ? 'stands still' : 'no answer' }
  const retries = last?.retries ?? 0
  return retries ? { tone: 'plain', text: plural(retries, 'retry', 'retries') } : { tone: 'good', text: last ? 'on time' : 'not yet swept' }
}
const held = (strip: Strip) => (strip.marks.at(-1)?.state === 'held' ? strip.marks.at(-1)! : null)
const settle = (sweep: number, believe: boolean) =>
  act(() => take(api.POST('/api/v1/watch/sweeps/{sweep}/settle', { params: { path: { sweep } }, body: { believe } })))
const sweepNow = (supplier: number) =>
  act(() => take(api.POST('/api/v1/watch/suppliers/{supplier}/sweep', { params: { path: { supplier } } })))
const lasted = (mark: Schema<'Mark'>) => {
  const seconds = mark.ended ? Math.round((Date.parse(mark.ended) - Date.parse(mark.started)) / 1000) : 0
  return seconds > 0 ? ` after ${seconds} s` : ''
}
const about = (mark: Schema<'Mark'>) =>
  `${timeOf(mark.started)}: ${mark.state}${lasted(mark)}, ${plural(mark.changes, 'change')} of ${plural(mark.items, 'item')}, ${plural(mark.calls, 'call')}${mark.retries ? `, ${plural(mark.retries, 'retry', 'retries')}` : ''}${mark.message ? `. ${mark.message}` : ''}`
</script>

<template>
  <div class="sheet shrink-0">
    <Sight :of="asked" :lines="3" />
    <div
      v-for="strip in data ?? []"
      :key="strip.supplier_id"
      class="grid min-h-11 grid-cols-[150px_104px_minmax(0,1fr)_92px_auto] items-center gap-3 border-b border-rule-2 px-3 py-1.5 last:border-0"
    >
      <b class="truncate" :title="strip.supplier">{{ strip.supplier }}</b>
      <span class="text-soft">{{ strip.watching ? `every ${strip.every} min` : 'by hand' }}</span>
      <ol class="flex h-7 items-end gap-[2px] overflow-hidden" :aria-label="`Sweeps of ${strip.supplier}`">
        <li v-for="mark in strip.marks" :key="mark.id" class="h-full max-w-2 min-w-[3px] flex-1" :title="about(mark)">
          <button
            type="button"
            tabindex="-1"
            class="flex h-full w-full items-end"
            :aria-label="about(mark)"
            @click="router.replace({ query: { sweep: String(mark.id) } })"
          >
            <span class="block w-full" :class="tone(mark.state)" :style="{ height: `${tall(mark)}px` }" />
          </button>
        </li>
      </ol>
      <span class="text-right text-soft">{{ plural(strip.items, 'item') }}</span>
      <span class="flex items-center justify-end gap-2"
        ><Tag :tone="state(strip).tone">{{ state(strip).text }}</Tag
        ><Btn v-if="strip.link !== 'none'" small @click="sweepNow(strip.supplier_id)">Sweep now</Btn></span
      >
      <div v-if="held(strip)" class="col-span-5 flex items-center gap-3 rounded bg-amber-wash px-3 py-1.5 text-amber-ink">
        <span class="flex-1">{{ held(strip)!.message }}. Nothing of it is used until you say so; the next sweeps may settle it too.</span
        ><Btn small kind="main" @click="settle(held(strip)!.id, false)">Keep last good stock</Btn
        ><Btn small @click="settle(held(strip)!.id, true)">Use it anyway</Btn>
      </div>
      <p v-else-if="strip.message && strip.link !== 'good'" class="col-span-5 text-brick">{{ strip.message }}</p>
    </div>
    <p v-if="data && !data.length" class="p-4 text-soft">No supplier is connected yet.</p>
  </div>
</template>
