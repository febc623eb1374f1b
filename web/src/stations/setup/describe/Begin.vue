<script setup lang="ts">
/** Begin a description: an empty one, one that comes with the application, or one that somebody shared. */
import { reactive } from 'vue'
import { useQuery } from '@tanstack/vue-query'
import { api, take } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import { useForm } from '@/parts/form'
import { allDescriptions } from './queries'

const emit = defineEmits<{ close: []; begun: [id: number] }>()
const { data } = useQuery(allDescriptions())
const OWNERS = { store: 'a store', supplier: 'a supplier', carrier: 'a carrier', rates: 'exchange rates' } as const
const form = reactive({ name: '', from: 'empty', openapi: '', at: '', owner: 'supplier' as keyof typeof OWNERS, shipped: '', text: '' })
const { error, wrong, busy, send } = useForm()
async function begin() {
  const body = {
    name: form.name,
    owner: form.from === 'empty' || form.from === 'openapi' ? form.owner : null,
    openapi: form.from === 'openapi' ? form.openapi : '',
    openapi_address: form.from === 'openapi' && !form.openapi ? form.at : '',
    shipped: form.from === 'shipped' ? form.shipped : '',
    text: form.from === 'file' ? form.text : '',
  }
  const done = await send(() => take(api.POST('/api/v1/setup/descriptions', { body })))
  if (!done) return
  emit('begun', done.id)
  void act(() => Promise.resolve(done))
}
async function read(event: Event) {
  const file = (event.target as HTMLInputElement).files?.[0]
  if (!file) return
  const text = await file.text()
  if (form.from === 'openapi') form.openapi = text
  else form.text = text
}
</script>

<template>
  <Modal
    open
    wide
    title="Describe a partner’s interface"
    message="One description says how a partner is spoken to. You make it beside its live answers; nothing is written there before you switch it on."
    @close="emit('close')"
  >
    <form class="grid grid-cols-2 gap-3.5" @submit.prevent="begin">
      <label class="col-span-2"
        ><span class="label">What it is called</span
        ><input v-model="form.name" class="field" maxlength="80" required :aria-invalid="!!wrong.name" placeholder="The partner’s name"
      /></label>
      <fieldset class="col-span-2">
        <legend class="label">Begin with</legend>
        <label class="flex min-h-7 items-center gap-2"
          ><input v-model="form.from" type="radio" class="accent-pine" value="empty" />an empty one</label
        >
        <label class="flex min-h-7 items-center gap-2"
          ><input v-model="form.from" type="radio" class="accent-pine" value="shipped" />one that comes with Amber Lane, to be
          changed</label
        >
        <label class="flex min-h-7 items-center gap-2"
          ><input v-model="form.from" type="radio" class="accent-pine" value="openapi" />the partner’s OpenAPI 3 document; calls and fields
          are proposed</label
        >
        <label class="flex min-h-7 items-center gap-2"
          ><input v-model="form.from" type="radio" class="accent-pine" value="file" />a file that somebody shared</label
        >
      </fieldset>
      <label v-if="form.from === 'empty' || form.from === 'openapi'"
        ><span class="label">It is</span
        ><select v-model="form.owner" class="field">
          <option v-for="(words, key) in OWNERS" :key="key" :value="key">{{ words }}</option>
        </select></label
      >
      <label v-if="form.from === 'openapi'"
        ><span class="label">Its document, JSON or YAML</span><input type="file" accept=".json,.yaml,.yml" class="field" @change="read"
      /></label>
      <label v-if="form.from === 'openapi'" class="col-span-2"
        ><span class="label">Or where it lies</span
        ><input
          v-model="form.at"
          class="field code"
          maxlength="500"
          placeholder="https://…/openapi.json"
          :aria-invalid="!!wrong.openapi_address"
      /></label>
      <label v-if="form.from === 'shipped'" class="col-span-2"
        ><span class="label">Which</span
        ><select v-model="form.shipped" class="field" required>
          <option v-for="one in data?.shipped ?? []" :key="one.key" :value="one.key">
            {{ OWNERS[one.owner] }}: {{ one.about.split('.')[0] }}
          </option>
        </select></label
      >
      <template v-if="form.from === 'file'">
        <label class="col-span-2"
          ><span class="label">Its file, YAML or JSON</span><input type="file" accept=".yaml,.yml,.json,.txt" class="field" @change="read"
        /></label>
        <label v-if="form.text" class="col-span-2"
          ><span class="label">What it says; nothing of it is used yet</span
          ><textarea v-model="form.text" class="field code h-48" spellcheck="false" :aria-invalid="!!wrong.text" />
        </label>
      </template>
      <p v-if="error" role="alert" class="col-span-2 rounded bg-brick-wash px-3 py-2 text-brick">{{ error }}</p>
      <button type="submit" class="hidden" />
    </form>
    <template #acts
      ><Btn @click="emit('close')">Cancel</Btn
      ><Btn kind="main" :disabled="busy || !form.name.trim()" @click="begin">Begin it</Btn></template
    >
  </Modal>
</template>
