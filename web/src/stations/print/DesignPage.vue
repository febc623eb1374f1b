<script setup lang="ts">
/** One design: placed in true millimetres, every size's sharpness, every colour with what reads on it. */
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { useDebounceFn } from '@vueuse/core'
import { computed, onBeforeUnmount, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, take, type Schema } from '@/api/client'
import { useKeys } from '@/app/keys'
import { askAgain, lookNow } from '@/app/live'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Pills from '@/parts/Pills.vue'
import Sight from '@/parts/Sight.vue'
import Tag from '@/parts/Tag.vue'
import { count } from '@/parts/format'
import ArtworkForm from './ArtworkForm.vue'
import ColourStrip from './ColourStrip.vue'
import DesignBench from './DesignBench.vue'
import PlacePicture from './PlacePicture.vue'
import { FAULTS, centred, designQuery, fitting, fromMm, heightOf, mm, sceneQuery, storesQuery, type Spot } from './print'
import { vShown } from '../../parts/shown'

const route = useRoute()
const router = useRouter()
const id = computed(() => Number(route.params.design))
const { data: stores } = useQuery(storesQuery())
const text = (key: string) => (typeof route.query[key] === 'string' ? route.query[key] : '')
const set = (query: Record<string, string>) => void router.replace({ query: { ...route.query, ...query } })
const store = computed(() => Number(text('store')))
const asked = useQuery(computed(() => ({ ...designQuery(id.value, store.value, text('side')), placeholderData: keepPreviousData })))
const of = computed(() => asked.data.value)
const side = computed(() => of.value?.side ?? '')
const scene = useQuery(computed(() => ({ ...sceneQuery(id.value, of.value?.size ?? '', side.value), placeholderData: keepPreviousData })))
const colour = computed(
  () =>
    of.value?.colours.find((one) => one.name === text('colour')) ??
    of.value?.colours.find((one) => !one.fault && !one.left_out) ??
    of.value?.colours[0],
)
const size = computed(() => of.value?.sizes.find((one) => one.name === of.value?.size))

/** Where it lies while it is moved; what the server says once that is saved. */
const draft = ref<Spot | null>(null)
const spot = computed<Spot>(() => draft.value ?? of.value?.places[side.value] ?? { x: 0, y: 0, w: 100 })
const isPrinted = computed(() => !!of.value?.places[side.value])
const move = (next: Spot) => (draft.value = { x: Math.round(next.x), y: Math.round(next.y), w: Math.max(100, Math.round(next.w)) })
/** The version that the last change left, which may be here before the design itself is read again. */
let left = 0
async function change(body: Partial<Schema<'DesignChangeAsk'>>) {
  const now = of.value!
  return act(async () => {
    const asked = { version: Math.max(now.version, left), ...body }
    const saved = await take(api.PATCH('/api/v1/printing/designs/{number}', { params: { path: { number: now.id } }, body: asked }))
    left = saved.version
    return saved
  })
}
/** What was saved last. It is shown until the design has been read again: whatever comes meanwhile starts from it, not from before. */
let kept: Spot | null = null
const settle = () => {
  if (draft.value === kept && (of.value?.version ?? 0) >= left) draft.value = null
}
/** One after the other: each needs the version that the one before left. What could not be saved is shown as it stands. */
let saving: Promise<unknown> = Promise.resolve()
async function saveAt(at: Spot, on: string) {
  if (at === kept || !of.value) return
  if (await change({ places: { [on]: at } })) kept = at
  else if (on === side.value) draft.value = null
  settle()
}
const saveNow = () => draft.value && saveAt(draft.value, side.value)
watch(() => of.value?.version, settle)
watch([id, side], ([now], [was, on]) => {
  const at = draft.value
  if (at && now === was) saving = saving.then(() => saveAt(at, on))
  draft.value = null
})
watch(id, () => (left = 0))
const save = () => (saving = saving.then(saveNow))
const saveSoon = useDebounceFn(save, 700)
const nudge = (dx: number, dy: number) => {
  move({ ...spot.value, x: spot.value.x + dx, y: spot.value.y + dy })
  void saveSoon()
}
const typed = (name: 'x' | 'y' | 'w', value: string) => {
  const next = fromMm(value)
  if (!Number.isFinite(next) || (name === 'w' && next < 1)) return
  move({ ...spot.value, [name]: next })
  void saveSoon()
}
const fit = () => size.value && of.value && (move(fitting(size.value, of.value)), void saveSoon())
const centre = () => size.value && of.value && (move(centred(spot.value, size.value, of.value)), void saveSoon())
const otherOnTop = ref(false)
const other = computed(() => {
  const versions = new Set((of.value?.colours ?? []).map((one) => one.version).filter((one) => one && one !== colour.value?.version))
  return otherOnTop.value ? ([...versions][0] ?? undefined) : undefined
})
const toggle = (one: Schema<'PrintColour'>) => {
  const left = (of.value?.colours ?? []).filter((each) => each.left_out !== (each.name === one.name)).map((each) => each.name)
  void change({ left_out: left })
}
const step = (by: number) => {
  const all = of.value?.colours ?? []
  const at = all.findIndex((one) => one.name === colour.value?.name)
  if (all.length) set({ colour: all[(at + by + all.length) % all.length]!.name })
}
const bench = ref<{ make: () => Promise<void> } | null>(null)
const adding = ref<{ ground: string; colour: string } | null>(null)
const MOVES = [
  ['arrowleft', -100, 0],
  ['arrowright', 100, 0],
  ['arrowup', 0, -100],
  ['arrowdown', 0, 100],
] as const
useKeys('Placing', [
  ...MOVES.map(([key, dx, dy]) => ({ key, message: 'move by 1 mm', run: () => nudge(dx, dy) })),
  ...MOVES.map(([key, dx, dy]) => ({ key: `shift+${key}`, message: 'move by 10 mm', run: () => nudge(dx * 10, dy * 10) })),
  { key: 'c', message: 'centre', run: () => void centre() },
  { key: 'f', message: 'as large as fits', run: () => void fit() },
  { key: 'v', message: 'the other version on top', run: () => (otherOnTop.value = !otherOnTop.value) },
  { key: 'j', message: 'next colour', run: () => step(1) },
  { key: 'k', message: 'colour before', run: () => step(-1) },
  { key: 'a', message: 'prepare the listings', run: () => void bench.value?.make() },
  { key: 'escape', message: 'back to all designs', run: () => void router.push('/shelf/print') },
])

const job = ref<Schema<'JobOut'> | null>(null)
let timer: ReturnType<typeof setTimeout> | undefined
async function follow(number: number) {
  job.value = await take(api.GET('/api/v1/jobs/{number}', { params: { path: { number } } })).catch(() => job.value)
  if (job.value && ['done', 'failed', 'stopped'].includes(job.value.state)) void lookNow().then(askAgain)
  else timer = setTimeout(() => void follow(number), 800)
}
onBeforeUnmount(() => {
  clearTimeout(timer)
  void save()
})
const sides = computed(() =>
  (of.value?.sides ?? []).map((one) => ({ key: one, label: of.value?.places[one] ? one : `${one}, not printed` })),
)
const printHere = () => size.value && of.value && change({ places: { [side.value]: fitting(size.value, of.value) } })
const leaveBare = () => change({ places: { [side.value]: null } })
const remove = () =>
  act(() =>
    take(
      api.POST('/api/v1/printing/designs/{number}/remove', {
        params: { path: { number: of.value!.id } },
        body: { version: of.value!.version },
      }),
    ),
  ).then((done) => void (done && router.push('/shelf/print')))
const TONES: Record<string, 'good' | 'plain' | 'loss'> = { ok: 'good', soft: 'plain', refused: 'loss' }
</script>

<template>
  <div class="grid h-full grid-cols-[minmax(0,1fr)_348px] max-[1180px]:grid-cols-[minmax(0,1fr)_300px]">
    <section class="flex min-h-0 min-w-0 flex-col gap-3 overflow-auto p-4.5">
      <Sight :of="asked" :lines="10">
        <template v-if="of && colour">
          <div class="flex items-start gap-3">
            <div class="min-w-0">
              <h1 class="truncate" :title="of.name">{{ of.name }}</h1>
              <p class="text-soft">
                {{ of.artwork_name }} on <b class="text-ink">{{ of.blank_name }}</b> · {{ of.house }}
              </p>
            </div>
            <span class="ml-auto" /><Btn v-if="!of.listings" @click="remove">Remove</Btn
            ><RouterLink to="/shelf/print"><Btn>All designs</Btn></RouterLink>
          </div>
          <p
            v-if="job && !['done', 'failed', 'stopped'].includes(job.state)"
            class="rounded bg-slate-wash px-3 py-1.5 text-slate"
            aria-live="polite"
          >
            {{ job.title }}: {{ count(job.done) }} of {{ count(job.total) }} steps. You can go on meanwhile.
          </p>
          <p
            v-else-if="job"
            class="rounded px-3 py-1.5"
            :class="job.state === 'done' ? 'bg-pine-wash text-pine' : 'bg-brick-wash text-brick'"
            role="status"
          >
            {{ job.message }}
          </p>
          <div class="grid grid-cols-[minmax(260px,380px)_minmax(0,1fr)] gap-3.5 max-[1180px]:grid-cols-[256px_minmax(0,1fr)]">
            <div class="sheet p-3">
              <p class="mb-2 flex items-center gap-2">
                <b class="truncate">{{ colour.name }}, {{ of.size }}</b
                ><Pills
                  v-if="of.sides.length > 1"
                  class="ml-auto"
                  :options="sides"
                  :chosen="side"
                  label="Side"
                  @choose="set({ side: $event })"
                />
              </p>
              <PlacePicture
                v-if="isPrinted"
                :of="of"
                :scene="scene.data.value"
                :colour="colour"
                :side="side"
                :spot="spot"
                :other="other"
                @place="move"
                @placed="save"
              />
              <p v-else class="grid aspect-square place-items-center text-center text-soft">
                <span>Nothing is printed on the {{ side }}.<br /><Btn class="mt-2" @click="printHere">Print here too</Btn></span>
              </p>
            </div>
            <div class="flex min-w-0 flex-col gap-3">
              <div class="sheet p-3">
                <h2>Place in the print area, mm</h2>
                <div class="mt-2 grid grid-cols-4 gap-2">
                  <label
                    v-for="[name, label] in [
                      ['x', 'left'],
                      ['y', 'top'],
                      ['w', 'width'],
                    ] as const"
                    :key="name"
                    ><span class="label">{{ label }}</span
                    ><input
                      v-shown="mm(spot[name])"
                      class="field text-right"
                      inputmode="decimal"
                      maxlength="8"
                      :disabled="!isPrinted"
                      @change="typed(name, ($event.target as HTMLInputElement).value)"
                  /></label>
                  <label
                    ><span class="label">height</span
                    ><input class="field text-right" disabled :value="mm(heightOf(spot.w, of))" aria-label="height, from the width"
                  /></label>
                </div>
                <p class="mt-2 flex flex-wrap items-center gap-2">
                  <Btn small hint="C" :disabled="!isPrinted" @click="centre">Centre</Btn
                  ><Btn small hint="F" :disabled="!isPrinted" @click="fit">Fit</Btn
                  ><Btn small hint="V" :aria-pressed="otherOnTop" @click="otherOnTop = !otherOnTop">Other version on top</Btn
                  ><Btn v-if="isPrinted && Object.keys(of.places).length > 1" small @click="leaveBare">Leave this side bare</Btn>
                </p>
                <p class="mt-1.5 text-xs text-soft">Arrows move by 1 mm, with Shift by 10.</p>
              </div>
              <div class="sheet overflow-auto">
                <table class="w-full">
                  <thead>
                    <tr class="h-8 border-b border-rule text-2xs text-soft">
                      <th class="px-2.5">Size</th>
                      <th class="px-2.5 text-right">Area, mm</th>
                      <th class="px-2.5 text-right">Artwork, mm</th>
                      <th class="px-2.5 text-right">Resolution</th>
                      <th class="px-2.5" />
                    </tr>
                  </thead>
                  <tbody>
                    <tr
                      v-for="one in of.sizes"
                      :key="one.name"
                      class="h-8.5 cursor-pointer border-b border-rule-2"
                      :class="one.name === of.size ? 'bg-shade font-bold' : ''"
                      @click="one.name !== of.size && change({ size: one.name })"
                    >
                      <th scope="row" class="px-2.5 font-[inherit] whitespace-nowrap">
                        <button type="button" class="hover:underline" :aria-pressed="one.name === of.size">{{ one.name }}</button>
                      </th>
                      <td class="px-2.5 text-right whitespace-nowrap">{{ mm(one.area_w, 0) }} × {{ mm(one.area_h, 0) }}</td>
                      <td class="px-2.5 text-right whitespace-nowrap">{{ one.w ? `${mm(one.w, 0)} × ${mm(one.h, 0)}` : '–' }}</td>
                      <td class="px-2.5 text-right whitespace-nowrap">{{ one.dpi ? `${one.dpi} dpi` : '–' }}</td>
                      <td class="px-2.5">
                        <Tag v-if="one.outcome" :tone="TONES[one.outcome]">{{
                          one.fault ? FAULTS[one.fault] : one.outcome === 'soft' ? 'soft' : 'sharp'
                        }}</Tag>
                      </td>
                    </tr>
                  </tbody>
                </table>
              </div>
              <p class="text-soft">
                {{ of.keep === 'proportion' ? "In proportion to each size's print area." : 'The same millimetres on every size.' }}
                <Btn kind="link" small @click="change({ keep: of.keep === 'proportion' ? 'millimetres' : 'proportion' })">{{
                  of.keep === 'proportion' ? 'Same millimetres for all instead' : 'In proportion instead'
                }}</Btn>
              </p>
            </div>
          </div>
          <ColourStrip :of="of" :side="side" :chosen="colour.name" @choose="set({ colour: $event })" @toggle="toggle" />
        </template>
      </Sight>
    </section>
    <aside class="min-h-0 overflow-auto border-l border-rule bg-sheet p-4.5" aria-label="What can be sold of it">
      <DesignBench
        v-if="of && colour"
        ref="bench"
        :of="of"
        :colour="colour"
        :stores="stores ?? []"
        :store="store || of.store"
        @store="set({ store: String($event) })"
        @change="change"
        @version="adding = { ground: 'colour', colour: $event }"
        @begun="follow"
      />
    </aside>
    <ArtworkForm
      v-if="adding && of"
      :artwork="{ id: of.artwork, name: of.artwork_name, listings: of.listings }"
      :ground="adding.ground"
      :colour="adding.colour"
      @close="adding = null"
    />
  </div>
</template>
