<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref, watch } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import { live } from '@/app/live'
import Btn from '@/parts/Btn.vue'
import Empty from '@/parts/Empty.vue'
import Modal from '@/parts/Modal.vue'
import When from '@/parts/When.vue'
import Sight from '@/parts/Sight.vue'
import { mailsQuery, partnersQuery, templatesQuery } from './queries'

type Template = Schema<'TemplateOut'>
const asked = useQuery(templatesQuery())
const { data } = asked
const { data: mails } = useQuery({
  ...mailsQuery(),
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
const save = (form: Template, fresh = false) =>
  act(() =>
    take(
      api.POST('/api/v1/transit/templates', {
        body: {
          id: fresh ? null : form.id,
          version: fresh ? null : form.version,
          kind: form.kind,
          store: form.store_id,
          language: form.language,
          subject: form.subject,
          body: form.body,
          on: form.on,
          delay_minutes: Math.max(0, Math.round(Number(form.delay_minutes) || 0)),
        },
      }),
    ),
  )
const { data: partners } = useQuery(partnersQuery())
const stores = computed(() => (partners.value ?? []).filter((one) => one.owner === 'store'))
const LANGUAGES: Record<string, string> = {
  en: 'English',
  da: 'Danish',
  de: 'German',
  es: 'Spanish',
  fi: 'Finnish',
  fr: 'French',
  it: 'Italian',
  nb: 'Norwegian',
  nl: 'Dutch',
  pl: 'Polish',
  sv: 'Swedish',
}
const own = reactive({ kind: 'shipped', store: 0, language: 'en' })
const adding = ref(false)
/** One of its own begins as the house's, so that nothing must be typed twice. */
async function add() {
  const like = (data.value ?? []).find((one) => one.kind === own.kind && !one.store_id && one.language === 'en')
  if (!like) return
  await save({ ...like, store_id: own.store || null, language: own.language }, true)
  adding.value = false
}
const whose = (one: Template) =>
  [one.store, one.language === 'en' ? '' : LANGUAGES[one.language]].filter(Boolean).join(', ') || 'all stores'
const inOrder = computed(() => (data.value ?? []).map((one) => forms[one.id]!).filter(Boolean))
const EXAMPLE: Record<string, string> = {
  order: '4417',
  name: 'Wren Sorrel',
  store: 'Dusk & Dial shop',
  lines: '1 × Clip-on red lamp',
  carrier: 'Swiftwing Post',
  tracking: 'SW000012349GB',
}
const fill = (text: string) => text.replace(/\{(\w+)\}/g, (all, word: string) => EXAMPLE[word] ?? all)
const NAMES: Record<string, string> = {
  bought: 'When an order is bought',
  shipped: 'When a parcel leaves',
  corrected: 'When its number is put right',
  return: 'When something may be sent back',
  late: 'When it is late',
  arrived: 'When it has arrived',
}
</script>

<template>
  <div>
    <div class="mb-3 flex max-w-5xl items-end">
      <div>
        <h1>Mail to buyers</h1>
        <p class="text-soft">
          Each is sent once per parcel. Words in braces are filled in: {order} {name} {lines} {carrier} {tracking} {store}.
        </p>
      </div>
      <Btn class="ml-auto" @click="adding = true">One of a store's own</Btn>
    </div>
    <Sight :of="asked" :lines="6" />
    <section v-for="form in inOrder" :key="form.id" class="sheet mb-3 grid max-w-5xl grid-cols-2 gap-4 p-4">
      <div>
        <div class="mb-2 flex items-center justify-between">
          <h2>
            {{ NAMES[form.kind] ?? form.kind }} <span class="font-normal text-soft">{{ whose(form) }}</span>
          </h2>
          <label class="flex items-center gap-2"><input v-model="form.on" type="checkbox" class="accent-pine" /> is sent</label>
        </div>
        <label class="block"><span class="label">Subject</span><input v-model="form.subject" class="field" maxlength="200" /></label
        ><label class="mt-2 block"
          ><span class="label">Text</span><textarea v-model="form.body" class="field h-36! py-1.5" maxlength="5000" /></label
        ><span class="mt-2 flex items-center gap-3"
          ><Btn kind="main" small @click="save(form)">Save</Btn
          ><label class="ml-auto flex items-center gap-2 text-soft"
            >sent <input v-model="form.delay_minutes" class="field w-16! text-right" inputmode="numeric" maxlength="5" /> minutes
            later</label
          ></span
        >
      </div>
      <div>
        <span class="label">As the buyer reads it</span>
        <div class="rounded border border-rule-2 bg-paper p-3">
          <b>{{ fill(form.subject) }}</b>
          <pre class="mt-2 font-sans whitespace-pre-wrap">{{ fill(form.body) }}</pre>
        </div>
      </div>
    </section>
    <Modal v-if="adding" open title="A mail of a store's own, or in another language" @close="adding = false">
      <form class="grid grid-cols-3 gap-3" @submit.prevent="add">
        <label
          ><span class="label">Which mail</span
          ><select v-model="own.kind" class="field">
            <option v-for="(word, key) in NAMES" :key="key" :value="key">{{ word }}</option>
          </select></label
        ><label
          ><span class="label">Of which store</span
          ><select v-model.number="own.store" class="field">
            <option :value="0">all stores</option>
            <option v-for="one in stores" :key="one.id" :value="one.id">{{ one.name }}</option>
          </select></label
        ><label
          ><span class="label">For buyers who read</span
          ><select v-model="own.language" class="field">
            <option v-for="(word, key) in LANGUAGES" :key="key" :value="key">{{ word }}</option>
          </select></label
        ><button type="submit" class="hidden" />
      </form>
      <template #acts><Btn @click="adding = false">Cancel</Btn><Btn kind="main" @click="add">Make it</Btn></template>
    </Modal>
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
        <Empty v-if="mails && !mails.length" title="No mail has come yet" message="The first goes out when a parcel leaves its supplier." />
      </div>
    </template>
  </div>
</template>
