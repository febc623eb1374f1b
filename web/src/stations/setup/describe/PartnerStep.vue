<script setup lang="ts">
/** How the partner is reached and signed in to, and its manner of money, moments and saying no. */
import Delimiter from './Delimiter.vue'
import { computed, reactive, watch } from 'vue'
import { api, take } from '@/api/client'
import { act, tell, wordsOf } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Pairs from './Pairs.vue'
import { useDraft } from './draft'
import { pairsOf, pairsText, type Rule } from './description'

const { number, whole, data, change, kept, faultsOf } = useDraft()
const trial = reactive({ address: '', key: '' })
watch(whole, (now) => (trial.address ||= now?.address ?? ''), { immediate: true })
async function keepTrial() {
  if (!(await kept())) return
  const done = await act(() =>
    take(api.POST('/api/v1/setup/descriptions/{number}/trial', { params: { path: { number } }, body: { ...trial } })),
  )
  if (done) trial.key = ''
}
async function signIn() {
  if (!(await kept())) return
  try {
    const there = await take(api.POST('/api/v1/setup/descriptions/{number}/sign-in', { params: { path: { number } } }))
    location.assign(there.address)
  } catch (problem) {
    tell(wordsOf(problem), true)
  }
}
const sign = computed(() => data.value.sign_in!)
const money = computed(() => data.value.money!)
const time = computed(() => data.value.time!)
const limits = computed(() => data.value.limits!)
const failures = computed(() => data.value.failures!)
const parts = computed({
  get: () => (data.value.key ?? ['key']).join(':'),
  set: (text) => {
    data.value.key = text
      .split(':')
      .map((one) => one.trim().toLowerCase().replace(/\W+/g, '_'))
      .filter(Boolean)
    change()
  },
})
const KINDS = {
  none: 'no sign-in',
  header: 'the key in a header',
  query: 'the key in the address',
  bearer: 'Authorization: Bearer',
  basic: 'name and password (Basic)',
  token: 'a token that is fetched, and runs out',
  oauth_client: 'OAuth 2, client credentials',
  oauth_code: 'OAuth 2, agreed to in the browser',
  signature: 'a signature over each call',
}
/** Codes as the partner says them, and what each means. */
const rules = computed({
  get: () =>
    (failures.value.rules ?? [])
      .map((one) => [...(one.codes ?? []), ...(one.status ?? []).map((n) => `status ${n}`)].map((c) => `${c} = ${one.means}`))
      .flat()
      .join(', '),
  set: (text) => {
    failures.value.rules = Object.entries(pairsOf(text)).map(([code, means]): Rule => {
      const status = /^status (\d+)$/.exec(code)
      return status ? { status: [status[1]!], means } : { codes: [code], means }
    })
    change()
  },
})
const spaces = computed({
  get: () => pairsText(data.value.namespaces),
  set: (text) => {
    data.value.namespaces = pairsOf(text)
    change()
  },
})
const found = computed(() => [
  ...faultsOf('sign_in'),
  ...faultsOf('key'),
  ...faultsOf('failures'),
  ...faultsOf('time'),
  ...faultsOf('operations'),
])
</script>

<template>
  <div class="max-w-4xl" @input="change" @change="change">
    <h2>Address and sign-in</h2>
    <form class="mt-2 flex flex-wrap items-end gap-3" @submit.prevent="keepTrial" @input.stop @change.stop>
      <label class="min-w-72 flex-1"
        ><span class="label">Address that it is tried at; paths are added to it</span
        ><input v-model="trial.address" class="field code" maxlength="500" placeholder="https://…"
      /></label>
      <label class="w-64"
        ><span class="label">Key{{ whole?.has_key ? ' (one is kept)' : '' }}, stored sealed</span
        ><input v-model="trial.key" class="field code" type="password" autocomplete="off" maxlength="500" :placeholder="parts"
      /></label>
      <Btn @click="keepTrial">Save</Btn><button type="submit" class="hidden" />
    </form>
    <div class="mt-4 grid grid-cols-3 gap-3.5">
      <label
        ><span class="label">Signed in by</span
        ><select v-model="sign.kind" class="field">
          <option v-for="(words, key) in KINDS" :key="key" :value="key">{{ words }}</option>
        </select></label
      >
      <label
        ><span class="label">The key’s parts, as name:secret</span><input v-model.lazy="parts" class="field code" maxlength="200"
      /></label>
      <label v-if="['header', 'query', 'token', 'signature'].includes(sign.kind ?? '')"
        ><span class="label">{{ sign.kind === 'query' ? 'Parameter' : 'Header' }} that holds it</span
        ><input v-model="sign.name" class="field code" maxlength="100"
      /></label>
      <template v-if="sign.kind === 'signature'">
        <label class="col-span-2"
          ><span class="label">What is signed: method, path, query, time, body</span
          ><textarea
            v-model="sign.text"
            class="field code h-20"
            spellcheck="false"
            placeholder="{{ method }}&#10;{{ path }}&#10;{{ time }}&#10;{{ body }}"
          />
        </label>
        <div class="grid gap-2">
          <label
            ><span class="label">With HMAC and</span
            ><select v-model="sign.hash" class="field">
              <option v-for="one in ['sha256', 'sha384', 'sha512']" :key="one">{{ one }}</option>
            </select></label
          >
          <label
            ><span class="label">Written in</span
            ><select v-model="sign.encoding" class="field">
              <option value="hex">hex</option>
              <option value="base64">base64</option>
            </select></label
          >
        </div>
        <Pairs
          v-model="sign.headers"
          class="col-span-3"
          label="Headers sent beside it"
          name="Header"
          :words="['time', ...(data.key ?? ['key'])]"
          @change="change"
        />
      </template>
      <template v-if="sign.kind === 'token'">
        <label
          ><span class="label">It is fetched by POST to</span
          ><input
            class="field code"
            :value="sign.call?.path"
            placeholder="/token"
            @input="sign.call = { ...sign.call, method: 'POST', path: ($event.target as HTMLInputElement).value }"
        /></label>
        <label
          ><span class="label">With, of the key’s parts</span
          ><input
            class="field code"
            :value="sign.call?.json"
            placeholder="{name: name, secret: secret}"
            @input="sign.call = { ...sign.call, json: ($event.target as HTMLInputElement).value }"
        /></label>
        <label
          ><span class="label">Where in the answer it is</span><input v-model="sign.token" class="field code" placeholder="token"
        /></label>
        <label
          ><span class="label">How the header holds it</span><input v-model="sign.value" class="field code" placeholder="{{ token }}"
        /></label>
      </template>
      <template v-if="sign.kind?.startsWith('oauth')">
        <label v-if="sign.kind === 'oauth_code'"
          ><span class="label">A person agrees at</span><input v-model="sign.authorize_address" class="field code" placeholder="/authorize"
        /></label>
        <label><span class="label">Tokens are given out at</span><input v-model="sign.token_address" class="field code" /></label>
        <label><span class="label">Scope, may stay empty</span><input v-model="sign.scope" class="field code" /></label>
        <div v-if="sign.kind === 'oauth_code'" class="col-span-3 flex flex-wrap items-center gap-3" @input.stop @change.stop>
          <Btn :disabled="!whole?.has_key" @click="signIn">Sign in at the partner</Btn>
          <span class="min-w-0 flex-1 text-soft"
            >Keep the name and secret that the partner gave for this application as its key first (name:secret). It sends you back to
            <code>{{ whole?.back }}</code>, which it may want to know beforehand. What it gives is kept as the key’s third part.</span
          >
        </div>
      </template>
    </div>
    <h2 class="mt-5">Its manner</h2>
    <div class="mt-2 grid grid-cols-4 gap-3.5">
      <label
        ><span class="label">Amounts are told in</span
        ><select v-model="money.unit" class="field">
          <option value="major">whole units: 19.95</option>
          <option value="minor">the smallest unit: 1995</option>
        </select></label
      >
      <label
        ><span class="label">Decimals after</span
        ><select v-model="money.mark" class="field">
          <option value=".">a point</option>
          <option value=",">a comma</option>
        </select></label
      >
      <label
        ><span class="label">Currency, if no row says it</span
        ><input v-model="money.currency" class="field code" maxlength="3" placeholder="as its account says"
      /></label>
      <label
        ><span class="label">Moments are told as</span
        ><select v-model="time.kind" class="field">
          <option value="iso">ISO 8601</option>
          <option value="seconds">seconds since 1970</option>
          <option value="milliseconds">milliseconds since 1970</option>
          <option value="pattern">in a pattern</option>
        </select></label
      >
      <label v-if="time.kind === 'pattern'"
        ><span class="label">Pattern</span><input v-model="time.pattern" class="field code" placeholder="%d.%m.%Y %H:%M"
      /></label>
      <label><span class="label">Zone, where none is told</span><input v-model="time.zone" class="field code" placeholder="UTC" /></label>
      <label
        ><span class="label">Calls it takes</span><input v-model="limits.calls" class="field" inputmode="numeric" placeholder="no limit"
      /></label>
      <label
        ><span class="label">… in so many seconds</span><input v-model="limits.seconds" class="field" inputmode="numeric" placeholder="1"
      /></label>
      <label
        ><span class="label">Calls a day</span><input v-model="limits.day" class="field" inputmode="numeric" placeholder="no limit"
      /></label>
      <label class="col-span-3"
        ><span class="label">Short names of XML namespaces, as f = urn:shop:2 (found by themselves from an answer)</span
        ><input v-model.lazy="spaces" class="field code" placeholder="none"
      /></label>
    </div>
    <h2 class="mt-5">How it says no</h2>
    <p class="mt-0.5 text-soft">
      What a status means by itself is known: 401 the key, 404 not there, 429 too often, 503 later. Say what is its own.
    </p>
    <div class="mt-2 grid grid-cols-4 gap-3.5">
      <label
        ><span class="label">Written in</span
        ><select v-model="failures.read" class="field">
          <option value="json">JSON</option>
          <option value="xml">XML</option>
          <option value="csv">CSV</option>
        </select></label
      >
      <label><span class="label">Its code is at</span><input v-model="failures.code" class="field code" placeholder="error.code" /></label>
      <label
        ><span class="label">Its words are at</span><input v-model="failures.words" class="field code" placeholder="error.message"
      /></label>
      <label
        ><span class="label">It failed, though it answered well, where</span
        ><input v-model="failures.when" class="field code" placeholder="errors"
      /></label>
      <label class="col-span-3"
        ><span class="label">Codes that mean something, as full = later, status 409 = refused</span
        ><input v-model.lazy="rules" class="field code" placeholder="none"
      /></label>
      <Delimiter v-model="failures.delimiter" label="Parted by, of a CSV" />
    </div>
    <p class="mt-1 text-xs text-soft">
      They mean one of: later, busy, away (try again), unknown (ask what became of it), refused, denied (the key), not_there, carrier (its
      name is not known there).
    </p>
    <p v-for="one in found.slice(0, 6)" :key="one.place + one.message" class="mt-2 text-brick">
      <span class="code">{{ one.place }}</span>: {{ one.message }}
    </p>
  </div>
</template>
