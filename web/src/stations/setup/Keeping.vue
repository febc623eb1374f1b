<script setup lang="ts">
/** How long things are kept, and whether they are written to a file before they go. */
import { useQuery } from '@tanstack/vue-query'
import { reactive, ref, watch } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Sight from '@/parts/Sight.vue'
import { keepingQuery } from './queries'

type Days = Exclude<keyof Schema<'KeepingBody'>, 'archive'>
const asked = useQuery(keepingQuery())
const form = reactive<Schema<'KeepingBody'>>({
  decisions: 90,
  changes: 90,
  jobs: 90,
  log: 400,
  mails: 400,
  sheets: 30,
  sightings: 60,
  archive: false,
})
const touched = ref(false)
watch(asked.data, (now) => now && !touched.value && Object.assign(form, now), { immediate: true })
const ROWS: [Days, string, string][] = [
  ['decisions', 'Decisions', 'what was done about each listing, and why'],
  ['changes', 'Changes sent', 'what stores were told and have taken'],
  ['log', 'The log', 'who did what; what has gone from it cannot be undone'],
  ['mails', 'The text of mails', 'that they were written is kept for ever'],
  ['sheets', 'Sheets brought in, as they came', 'what they said is kept'],
  ['jobs', 'Jobs', 'sheets brought in and other long work'],
  ['sightings', 'Every cost and stock seen', 'after that the last of each day, and after 400 days the last of each month'],
]
async function keep() {
  if (await act(() => take(api.PUT('/api/v1/house/keeping', { body: { ...form } })))) touched.value = false
}
</script>

<template>
  <section class="mt-6">
    <h2>How long things are kept</h2>
    <p class="mt-1 mb-3 max-w-xl text-soft">
      Orders, purchases, parcels, listings, items and lanes are kept for ever. What is older than this goes once a day, and cannot come
      back.
    </p>
    <Sight v-if="!asked.data.value" :of="asked" :lines="6" />
    <form v-else class="sheet max-w-xl p-4" @submit.prevent="keep" @input="touched = true">
      <label v-for="[key, name, message] in ROWS" :key="key" class="flex items-center gap-3 border-b border-rule-2 py-1.5">
        <span class="min-w-0 flex-1"
          ><span class="block font-semibold">{{ name }}</span
          ><span class="block text-xs text-soft">{{ message }}</span></span
        >
        <input v-model.number="form[key]" class="field w-24 text-right" type="number" min="0" max="36500" required />
        <span class="w-16 text-xs text-soft">{{ form[key] ? 'days' : 'for ever' }}</span>
      </label>
      <label class="flex items-center gap-2 py-2"
        ><input v-model="form.archive" type="checkbox" class="size-3.5 accent-pine" /><span
          >Write it to a file before it goes <span class="text-xs text-soft">(archive/ in the data folder, a line for each)</span></span
        ></label
      >
      <p class="flex items-center justify-between">
        <span class="text-xs text-soft">0 = for ever</span><Btn kind="main" @click="keep">Set these days</Btn>
      </p>
    </form>
  </section>
</template>
