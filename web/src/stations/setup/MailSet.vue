<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { reactive, watch } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/told'
import { live } from '@/app/live'
import Btn from '@/parts/Btn.vue'
import Empty from '@/parts/Empty.vue'
import When from '@/parts/When.vue'

type Template = Schema<'TemplateOut'>
const { data } = useQuery({ queryKey: ['templates'], queryFn: () => take(api.GET('/api/v1/transit/templates')) })
const { data: mails } = useQuery({
  queryKey: ['mails'],
  queryFn: () => take(api.GET('/api/v1/world/mail')),
  enabled: () => live.pulse.value?.practice ?? false,
  retry: false,
})
const forms = reactive<Record<number, Template>>({})
watch(
  data,
  (now) => {
    for (const one of now ?? []) forms[one.id] = { ...one }
  },
  { immediate: true },
)
const save = (form: Template) =>
  act(() =>
    take(
      api.PUT('/api/v1/transit/templates/{number}', {
        params: { path: { number: form.id } },
        body: { version: form.version, subject: form.subject, body: form.body, on: form.on },
      }),
    ),
  )
const EXAMPLE: Record<string, string> = {
  order: '4417',
  name: 'Wren Sorrel',
  store: 'Dusk & Dial shop',
  lines: '1 × Clip-on red lamp',
  carrier: 'Swiftwing Post',
  tracking: 'SW000012349GB',
}
const fill = (text: string) => text.replace(/\{(\w+)\}/g, (all, word: string) => EXAMPLE[word] ?? all)
const NAMES: Record<string, string> = { shipped: 'When a parcel leaves', arrived: 'When it has arrived' }
</script>

<template>
  <div>
    <h1>Mail to buyers</h1>
    <p class="mb-3 text-soft">
      Each is sent once per parcel. Words in braces are filled in: {order} {name} {lines} {carrier} {tracking} {store}.
    </p>
    <section v-for="form in Object.values(forms)" :key="form.id" class="sheet mb-3 grid max-w-5xl grid-cols-2 gap-4 p-4">
      <div>
        <div class="mb-2 flex items-center justify-between">
          <h2>{{ NAMES[form.kind] ?? form.kind }}</h2>
          <label class="flex items-center gap-2"><input v-model="form.on" type="checkbox" class="accent-pine" /> is sent</label>
        </div>
        <label class="block"><span class="label">Subject</span><input v-model="form.subject" class="field" maxlength="200" /></label
        ><label class="mt-2 block"
          ><span class="label">Text</span><textarea v-model="form.body" class="field h-36! py-1.5" maxlength="5000" /></label
        ><Btn class="mt-2" kind="main" small @click="save(form)">Keep</Btn>
      </div>
      <div>
        <span class="label">As the buyer reads it</span>
        <div class="rounded border border-rule-2 bg-paper p-3">
          <b>{{ fill(form.subject) }}</b>
          <pre class="mt-2 font-sans whitespace-pre-wrap">{{ fill(form.body) }}</pre>
        </div>
      </div>
    </section>
    <template v-if="live.pulse.value?.practice">
      <h1 class="mt-5 mb-2">The practice mailbox</h1>
      <div class="sheet max-w-5xl">
        <details v-for="mail in mails ?? []" :key="mail.id" class="border-b border-rule-2 px-4 py-2 last:border-0">
          <summary class="cursor-pointer">
            <span class="text-soft"><When :at="mail.at" clock /></span> <b class="ml-2">{{ mail.subject }}</b>
            <span class="ml-1 text-soft">to {{ mail.to }}</span>
          </summary>
          <pre class="mt-2 font-sans whitespace-pre-wrap">{{ mail.body }}</pre>
        </details>
        <Empty v-if="mails && !mails.length" title="No mail has come yet" told="The first goes out when a parcel leaves its supplier." />
      </div>
    </template>
  </div>
</template>
