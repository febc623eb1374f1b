<script setup lang="ts">
/** What one listing says, what is missing, what the store shows otherwise; kept as it is typed when the field is left. */
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref, watch } from 'vue'
import { api, take, upload, type Schema } from '@/api/client'
import { askAgain, lookNow } from '@/app/live'
import { act, tell, wordsOf } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Tag from '@/parts/Tag.vue'
import Sight from '@/parts/Sight.vue'
import { inField, money, plainOf } from '@/parts/format'
import { forget, insist, keep as keepWords, kept, refused, waiting, type Words } from './keeper'
import { shelfListingQuery } from './queries'

const props = defineProps<{ listing: number }>()
const emit = defineEmits<{ publish: []; sizes: [] }>()
const path = computed(() => ({ number: props.listing }))
const asked = useQuery(computed(() => shelfListingQuery(props.listing)))
const { data } = asked
const form = reactive({ title: '', description: '', category: '', tags: '', compare: '', weight: '' })
/** The fields as they were last message. */
const shown = reactive({ ...form })
const wrong = ref('')
watch(
  data,
  (now) => {
    if (!now) return
    const fresh = {
      title: now.title,
      description: now.description,
      category: now.category,
      tags: now.tags,
      compare: inField(now.compare_at?.amount),
      weight: now.weight_g ? String(now.weight_g) : '',
    }
    // What is being typed, or is on its way, is never written over.
    for (const name of Object.keys(fresh) as (keyof typeof fresh)[]) if (form[name] === shown[name]) form[name] = fresh[name]
    Object.assign(shown, fresh)
    const words = waiting.get(now.id)?.words
    if (words) for (const name of ['title', 'description', 'category', 'tags'] as const) form[name] = words[name] ?? form[name]
  },
  { immediate: true },
)
const unkept = computed(() => waiting.get(props.listing))
function keep(words: Words) {
  wrong.value = ''
  refused.delete(props.listing)
  keepWords(data.value!, words)
}
watch(
  () => refused.get(props.listing),
  (now) => now && (wrong.value = now),
)
/** Nothing goes on sale before all that was typed is kept. */
async function publish() {
  if (await kept(props.listing)) emit('publish')
  else tell('What you typed here is not kept yet; it goes on sale once it is', true)
}
function field(name: 'title' | 'description' | 'category' | 'tags') {
  if (data.value && form[name].trim() !== (data.value[name] ?? '')) keep({ [name]: form[name].trim() })
  else if (refused.delete(props.listing)) wrong.value = ''
}
function compare() {
  const text = plainOf(form.compare)
  if (text === (data.value?.compare_at?.amount ?? '')) return
  keep(text ? { compare_at: { amount: text, currency: data.value!.price.currency } } : { no_compare: true })
}
function weight() {
  const text = form.weight.trim()
  if (Number(text || 0) === data.value?.weight_g) return
  if (/^\d{1,7}$/.test(text || '0')) keep({ weight_g: Number(text || 0) })
  else wrong.value = 'Weight is a whole number of grams'
}
async function addPicture(event: Event) {
  const files = (event.target as HTMLInputElement).files
  for (const file of files ?? []) {
    try {
      tell((await upload<Schema<'Done'>>(`/api/v1/shelf/listings/${props.listing}/pictures`, file)).message)
    } catch (problem) {
      tell(wordsOf(problem), true)
    }
  }
  void lookNow().then(askAgain)
}
const order = (from: number, to: number) => {
  const next = [...data.value!.pictures]
  next.splice(to, 0, next.splice(from, 1)[0]!)
  keep({ pictures: next })
}
const drop = (at: number) => keep({ pictures: data.value!.pictures.filter((_, n) => n !== at) })
const settle = (name: string, theirs: boolean) =>
  act(() =>
    take(
      api.POST('/api/v1/shelf/listings/{number}/settle', {
        params: { path: path.value },
        body: { version: data.value!.version, field: name as 'title' | 'description', theirs },
      }),
    ),
  )
const STANDS: Record<string, string> = { preparing: 'in preparation', live: 'on sale', paused: 'paused', ended: 'ended' }
</script>

<template>
  <Sight :of="asked" :lines="8" />
  <div v-if="data" class="flex flex-col gap-3.5">
    <div>
      <p class="code text-soft">{{ data.sku }}</p>
      <p>
        <b>{{ data.store }}</b>, {{ STANDS[data.state] }} <span class="ml-1">at</span> <b class="ml-1">{{ money(data.price) }}</b>
        <Tag v-if="data.copied_from" class="ml-2">from {{ data.copied_from.store }}{{ data.copied_from.follows ? ', follows' : '' }}</Tag>
      </p>
      <p v-if="data.message" role="alert" class="mt-2 rounded bg-brick-wash px-3 py-2 text-brick">{{ data.message }}</p>
    </div>
    <div v-if="data.missing.length && data.state !== 'live'" class="rounded bg-amber-wash px-3 py-2 text-amber-ink">
      <b>Before it can be shown</b>
      <p v-for="one in data.missing" :key="one">{{ one }}</p>
    </div>
    <Btn v-if="data.state === 'preparing' || data.state === 'ended'" kind="main" hint="P" class="self-start" @click="publish">{{
      data.state === 'ended' ? 'Bring back' : 'Publish'
    }}</Btn>
    <div v-for="one in data.differs" :key="one.name" class="rounded border border-amber p-3">
      <b>The store shows another {{ one.name }}</b>
      <dl class="mt-1 grid grid-cols-[48px_1fr] gap-y-1">
        <dt class="text-soft">Ours</dt>
        <dd class="max-h-24 overflow-auto">{{ one.ours }}</dd>
        <dt class="text-soft">Theirs</dt>
        <dd class="max-h-24 overflow-auto">{{ one.theirs }}</dd>
      </dl>
      <div class="mt-2 flex gap-2">
        <Btn small @click="settle(one.name, false)">Keep ours, send it</Btn><Btn small @click="settle(one.name, true)">Take theirs</Btn>
      </div>
    </div>
    <label
      ><span class="label flex"
        >Title
        <span class="ml-auto font-normal" :class="form.title.length > data.title_most ? 'text-brick' : ''"
          >{{ form.title.length }} of {{ data.title_most }}</span
        ></span
      ><textarea v-model="form.title" class="field h-16! resize-none py-1.5" maxlength="500" @blur="field('title')" />
    </label>
    <p v-if="data.suggested && data.suggested !== form.title" class="-mt-2 text-xs text-soft">
      From its parts: {{ data.suggested }}
      <button type="button" class="font-semibold text-slate hover:underline" @click="keep({ title: data.suggested })">use it</button>
    </p>
    <label
      ><span class="label">Description, plain or simple HTML; anything a page could run is taken out</span
      ><textarea v-model="form.description" class="field h-32! py-1.5" maxlength="20000" @blur="field('description')" />
    </label>
    <div class="grid grid-cols-2 gap-3">
      <label
        ><span class="label">Category</span><input v-model="form.category" class="field" maxlength="100" @blur="field('category')"
      /></label>
      <label
        ><span class="label">Compare-at price</span
        ><input v-model="form.compare" class="field text-right" inputmode="decimal" maxlength="12" placeholder="none" @blur="compare"
      /></label>
      <label
        ><span class="label">Weight, g</span
        ><input v-model="form.weight" class="field text-right" inputmode="numeric" maxlength="8" placeholder="not told" @blur="weight"
      /></label>
      <label
        ><span class="label">Tags, by commas</span><input v-model="form.tags" class="field" maxlength="500" @blur="field('tags')"
      /></label>
    </div>
    <div class="flex items-center gap-2">
      <Btn small hint="V" @click="emit('sizes')">Sizes and colours</Btn
      ><span class="text-soft">{{ data.family > 1 ? `one of ${data.family}` : 'stands alone' }}</span>
    </div>
    <div v-if="unkept?.trouble" role="alert" class="rounded bg-amber-wash px-3 py-2 text-amber-ink">
      {{ unkept.trouble }}
      <span v-if="unkept.stopped" class="mt-1 flex gap-2"
        ><Btn small @click="insist(listing)">Keep mine</Btn
        ><Btn small @click="(forget(listing), Object.assign(form, shown))">Take theirs</Btn></span
      ><span v-else>What you typed stays here, and is kept as soon as it answers.</span>
    </div>
    <p v-if="wrong" role="alert" class="rounded bg-brick-wash px-3 py-2 text-brick">{{ wrong }}</p>
    <div>
      <span class="label">Pictures, the first one first</span>
      <div class="mt-1 grid grid-cols-4 gap-2">
        <figure v-for="(one, at) in data.pictures" :key="one" class="rounded border border-rule p-1">
          <img :src="`api/v1/shelf/pictures/${one}`" :alt="`Picture ${at + 1}`" class="h-16 w-full object-contain" />
          <figcaption class="flex justify-between text-xs">
            <button
              type="button"
              :disabled="!at"
              :aria-label="`Picture ${at + 1} earlier`"
              class="px-1 disabled:opacity-30"
              @click="order(at, at - 1)"
            >
              ←</button
            ><button type="button" :aria-label="`Take picture ${at + 1} away`" class="px-1 text-brick" @click="drop(at)">×</button
            ><button
              type="button"
              :disabled="at === data.pictures.length - 1"
              :aria-label="`Picture ${at + 1} later`"
              class="px-1 disabled:opacity-30"
              @click="order(at, at + 1)"
            >
              →
            </button>
          </figcaption>
        </figure>
        <label
          class="flex h-20 cursor-pointer items-center justify-center rounded border border-dashed border-faint text-center text-xs text-soft focus-within:outline-2 focus-within:outline-slate hover:bg-shade"
          >Add<input
            type="file"
            accept="image/jpeg,image/png,image/webp"
            multiple
            class="sr-only"
            aria-label="Add pictures"
            @change="addPicture"
        /></label>
      </div>
    </div>
    <p v-if="data.copies.length" class="text-soft">
      Copied to {{ data.copies.map((one) => `${one.store}${one.follows ? ' (takes changed words)' : ''}`).join(', ') }}.
    </p>
  </div>
</template>
