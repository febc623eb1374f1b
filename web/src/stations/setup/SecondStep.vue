<script setup lang="ts">
/** One's own second step of signing in: set up with a phone, its recovery codes, and turned off again. */
import { useQuery } from '@tanstack/vue-query'
import { nextTick, reactive, ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import { useForm } from '@/parts/form'
import { hereQuery } from './queries'

const emit = defineEmits<{ done: [] }>()
const { data: here } = useQuery(hereQuery())
const begun = ref<Schema<'Begun'> | null>(null)
const codes = ref<string[]>([])
const proof = reactive({ password: '', code: '' })
const old = ref('')
const place = ref<HTMLElement | null>(null)
const { error, wrong, clear, send, sendAct } = useForm()
function empty() {
  Object.assign(proof, { password: '', code: '' })
  old.value = ''
}
async function begin() {
  empty()
  begun.value = (await send(() => take(api.POST('/api/v1/session/second/begin')))) ?? null
  await nextTick()
  place.value?.scrollIntoView({ block: 'nearest' })
}
async function turnOn() {
  const given = begun.value
  if (!given) return
  shown(await send(() => take(api.POST('/api/v1/session/second', { body: { ...proof, old: old.value, begun: given.begun } }))))
}
const fresh = async () => shown(await send(() => take(api.POST('/api/v1/session/second/codes', { body: { ...proof } }))))
function shown(done: Schema<'Codes'> | undefined) {
  if (!done) return
  codes.value = done.codes
  begun.value = null
  empty()
  void act(() => Promise.resolve(done))
}
const off = () => sendAct(() => take(api.POST('/api/v1/session/second/off', { body: { ...proof } })), empty)
const copy = () => act(() => navigator.clipboard.writeText(codes.value.join('\n')).then(() => ({ message: 'Copied' })))
function leave() {
  codes.value = []
  emit('done')
}
</script>

<template>
  <section ref="place" class="sheet scroll-mb-4 p-4">
    <h2>A code beside the password</h2>
    <div v-if="codes.length">
      <p class="mt-1">
        <b>Keep these ten recovery codes where your phone is not.</b> Each lets you in once when the phone is lost. They are not shown
        again.
      </p>
      <ul class="mt-3 grid grid-cols-2 gap-x-8 gap-y-1 font-mono sm:grid-cols-5">
        <li v-for="one in codes" :key="one" class="whitespace-nowrap">{{ one }}</li>
      </ul>
      <div class="mt-4 flex gap-2"><Btn kind="main" @click="leave">I have kept them</Btn><Btn @click="copy">Copy</Btn></div>
    </div>
    <form v-else-if="begun" class="mt-2 grid grid-cols-[200px_1fr] gap-6" @submit.prevent="turnOn">
      <img :src="begun.picture" alt="The picture to point your phone at" class="size-[200px] border border-rule-2" />
      <div>
        <p>Point your phone's app for codes at the picture, or type this in there:</p>
        <p class="mt-1 font-mono break-all select-all">{{ begun.secret.replace(/(.{4})/g, '$1 ').trim() }}</p>
        <div class="mt-3 grid grid-cols-2 gap-3">
          <label
            ><span class="label">The code that it shows now</span
            ><input
              v-model="proof.code"
              class="field font-mono"
              inputmode="numeric"
              autocomplete="one-time-code"
              maxlength="10"
              required
              :aria-invalid="!!wrong.code" /></label
          ><label
            ><span class="label">Your password</span
            ><input
              v-model="proof.password"
              type="password"
              class="field"
              autocomplete="current-password"
              maxlength="500"
              required
              :aria-invalid="!!wrong.password"
          /></label>
          <label v-if="here?.second"
            ><span class="label">A code of the old phone, or a recovery code</span
            ><input v-model="old" class="field font-mono" maxlength="40" required :aria-invalid="!!wrong.old"
          /></label>
        </div>
        <p v-if="error" role="alert" class="mt-2 text-brick">{{ error }}</p>
        <div class="mt-3 flex gap-2">
          <Btn kind="main" @click="turnOn">Turn it on</Btn><Btn @click="((begun = null), clear())">Cancel</Btn>
        </div>
        <button type="submit" class="hidden" />
      </div>
    </form>
    <form v-else-if="here?.second" class="mt-2 grid grid-cols-3 items-end gap-3" @submit.prevent>
      <p class="col-span-3 text-soft">
        You sign in with a code of your phone.
        <button type="button" class="font-semibold text-slate hover:underline" @click="begin">Set up a new phone</button>
        in its place; or, with your password and a code (or a recovery code):
      </p>
      <label
        ><span class="label">Your password</span
        ><input v-model="proof.password" type="password" class="field" autocomplete="current-password" maxlength="500" /></label
      ><label
        ><span class="label">A code</span
        ><input v-model="proof.code" class="field font-mono" autocomplete="one-time-code" maxlength="40" :aria-invalid="!!wrong.code"
      /></label>
      <div class="flex gap-2 whitespace-nowrap"><Btn @click="fresh">New recovery codes</Btn><Btn @click="off">Turn it off</Btn></div>
      <p v-if="error" role="alert" class="col-span-3 text-brick">{{ error }}</p>
    </form>
    <div v-else>
      <p class="mt-1 text-soft">
        Whoever knows your password still does not get in: a code is asked for that your phone shows, a new one every half minute.
      </p>
      <p v-if="error" role="alert" class="mt-2 text-brick">{{ error }}</p>
      <Btn class="mt-3" kind="main" @click="begin">Set it up</Btn>
    </div>
  </section>
</template>
