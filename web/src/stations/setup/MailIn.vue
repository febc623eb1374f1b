<script setup lang="ts">
/** Whom our mails to suppliers and buyers come from, and what came back by mail: what was taken from it, and what a person must read. */
import { reactive, ref } from 'vue'
import { ApiError, api, take, type Schema } from '@/api/client'
import { act, wordsOf } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import Tag from '@/parts/Tag.vue'
import When from '@/parts/When.vue'

type Sender = Schema<'SenderOut'>
defineProps<{ ordering: Schema<'OrderingOut'> }>()
const open = ref<number | null>(null)
const sender = ref<Sender | null>(null)
const form = reactive({ name: '', sender: '' })
const error = ref('')
const wrong = ref<Record<string, string>>({})
function edit(one: Sender | null) {
  Object.assign(form, one ?? {})
  error.value = ''
  wrong.value = {}
  sender.value = one
}
async function keep() {
  if (!sender.value) return
  try {
    const path = { params: { path: { number: sender.value.id } } }
    const body = { version: sender.value.version, name: form.name, sender: form.sender }
    const done = await take(api.POST('/api/v1/ordering/senders/{number}', { ...path, body }))
    edit(null)
    void act(() => Promise.resolve(done))
  } catch (problem) {
    error.value = wordsOf(problem)
    wrong.value = problem instanceof ApiError ? problem.fields : {}
  }
}
const box = ref<Schema<'MailboxOut'> | null>(null)
const server = ref('')
function trust(one: Schema<'MailboxOut'>) {
  box.value = one
  server.value = one.trusts
  error.value = ''
}
async function keepTrust() {
  if (!box.value) return
  try {
    const path = { params: { path: { number: box.value.id } } }
    const done = await take(api.POST('/api/v1/ordering/mailboxes/{number}/trust', { ...path, body: { server: server.value.trim() } }))
    box.value = null
    void act(() => Promise.resolve(done))
  } catch (problem) {
    error.value = wordsOf(problem)
  }
}
const takeIn = (number: number) => act(() => take(api.POST('/api/v1/ordering/letters/{number}/take', { params: { path: { number } } })))
const read = (number: number) => act(() => take(api.POST('/api/v1/ordering/letters/{number}/read', { params: { path: { number } } })))
</script>

<template>
  <section class="sheet mt-4 max-w-6xl p-4">
    <div class="flex items-center gap-3">
      <h2>Mail from suppliers</h2>
      <p class="text-soft">
        {{
          ordering.mailboxes.length
            ? 'Sheets and documents that answer a mail of ours are taken by themselves; the rest is put to you.'
            : 'No mailbox is read yet, so answers are brought in by hand.'
        }}
      </p>
      <RouterLink v-if="!ordering.mailboxes.length" class="text-slate hover:underline" to="/setup/partners">Connect one</RouterLink>
    </div>
    <p v-for="one in ordering.senders" :key="one.id" class="mt-2 flex items-center gap-3">
      <span class="text-soft">Our mails come from</span> <b class="truncate" :title="one.sender">{{ one.name }}, {{ one.sender }}</b
      ><Btn small @click="edit(one)">Change</Btn>
    </p>
    <p v-for="one in ordering.mailboxes" :key="`box-${one.id}`" class="mt-1 flex items-center gap-3">
      <span class="text-soft">In</span> <b class="truncate" :title="one.name">{{ one.name }}</b>
      <span class="text-soft">a supplier's mail is known by the key of ours{{ one.trusts ? ', or by the word of' : '' }}</span>
      <b v-if="one.trusts" class="truncate" :title="one.trusts">{{ one.trusts }}</b><Btn small @click="trust(one)">Change</Btn>
    </p>
    <table v-if="ordering.letters.length" class="mt-3 w-full table-fixed">
      <thead>
        <tr class="h-7 text-2xs text-soft">
          <th style="width: 18%">From</th>
          <th class="px-2" style="width: 26%">About</th>
          <th class="px-2">What was done</th>
          <th class="px-2 text-right" style="width: 90px">Came</th>
          <th style="width: 176px" />
        </tr>
      </thead>
      <tbody>
        <template v-for="one in ordering.letters" :key="one.id">
          <tr class="h-9 border-t border-rule-2">
            <td class="truncate font-semibold" :title="one.sender">{{ one.who }}</td>
            <td class="truncate px-2" :title="one.subject">
              <button type="button" class="max-w-full truncate text-left hover:underline" @click="open = open === one.id ? null : one.id">
                {{ one.subject || 'no subject' }}
              </button>
            </td>
            <td class="truncate px-2" :class="one.needs ? 'text-amber-ink' : 'text-soft'" :title="one.message">{{ one.message }}</td>
            <td class="px-2 text-right text-soft"><When :at="one.at" clock /></td>
            <td class="text-right whitespace-nowrap">
              <Btn v-if="one.held && one.needs" small class="mr-1" @click="takeIn(one.id)">Take it in</Btn
              ><Btn v-if="one.held && one.needs" small @click="read(one.id)">Ignore it</Btn
              ><Btn v-else-if="one.needs" small @click="read(one.id)">I have read it</Btn><Tag v-else tone="plain">done</Tag>
            </td>
          </tr>
          <tr v-if="open === one.id">
            <td colspan="5" class="border-t border-rule-2 bg-shade/60 px-2 py-2">
              <p class="text-xs text-soft">{{ one.sender }}: {{ one.message }}</p>
              <pre class="mt-1 max-h-48 overflow-auto font-sans whitespace-pre-wrap">{{ one.body || 'It has no text.' }}</pre>
            </td>
          </tr>
        </template>
      </tbody>
    </table>
    <p v-else-if="ordering.mailboxes.length" class="mt-2 text-soft">No supplier has written yet.</p>
    <Modal
      v-if="box"
      open
      title="Who may say that a mail is a supplier's"
      message="Anybody can write any sender into a mail. An answer that carries the key of our mail is believed. For mails without it, name the server that receives your mail, if it checks senders and says so in each mail (Authentication-Results): its word is then believed for the supplier's own domain."
      @close="box = null"
    >
      <form @submit.prevent="keepTrust">
        <label
          ><span class="label">The receiving server, as it calls itself there; empty = none</span
          ><input v-model="server" class="field" maxlength="200" placeholder="mx.your-mail.example" :aria-invalid="!!error"
        /></label>
        <p v-if="error" role="alert" class="mt-1 text-brick">{{ error }}</p>
        <button type="submit" class="hidden" />
      </form>
      <template #acts><Btn @click="box = null">Cancel</Btn><Btn kind="main" @click="keepTrust">Save</Btn></template>
    </Modal>
    <Modal
      v-if="sender"
      open
      title="Whom our mails come from"
      message="Suppliers answer to this address, so it is the one of the mailbox that is read."
      @close="edit(null)"
    >
      <form class="grid grid-cols-2 gap-3" @submit.prevent="keep">
        <label
          ><span class="label">Name</span><input v-model="form.name" class="field" maxlength="80" :aria-invalid="!!wrong.name" /><span
            v-if="wrong.name"
            class="text-xs text-brick"
            >{{ wrong.name }}</span
          ></label
        ><label
          ><span class="label">Mail address</span
          ><input v-model="form.sender" class="field" maxlength="200" :aria-invalid="!!wrong.sender" /><span
            v-if="wrong.sender"
            class="text-xs text-brick"
            >{{ wrong.sender }}</span
          ></label
        >
        <button type="submit" class="hidden" />
      </form>
      <p v-if="error && !Object.keys(wrong).length" role="alert" class="mt-2 text-brick">{{ error }}</p>
      <template #acts><Btn @click="edit(null)">Cancel</Btn><Btn kind="main" @click="keep">Save</Btn></template>
    </Modal>
  </section>
</template>
