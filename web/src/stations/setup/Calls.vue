<script setup lang="ts">
/** What programs can call: every call with what it needs, an example of what is sent and answered, and for questions the answer of now. */
import { useQuery } from '@tanstack/vue-query'
import { refDebounced } from '@vueuse/core'
import { computed, ref, watch } from 'vue'
import { ROOT } from '@/api/client'
import { may, type Permission } from '@/app/may'
import Btn from '@/parts/Btn.vue'
import Sight from '@/parts/Sight.vue'
import Tag from '@/parts/Tag.vue'
import { plural } from '@/parts/format'
import { home } from '@/parts/home'
import { useRowKeys } from '@/parts/rowKeys'
import { addressOf, callsOf, example, shellLine } from './calls'
import { interfaceQuery } from './queries'

const asked = useQuery({ ...interfaceQuery(), staleTime: Infinity })
const typedWords = ref('')
const words = refDebounced(typedWords, 150)
const all = computed(() => (asked.data.value ? callsOf(asked.data.value) : []))
const rows = computed(() => {
  const parts = words.value.toLowerCase().split(/\s+/).filter(Boolean)
  return all.value.filter((one) =>
    parts.every((part) => `${one.method} ${one.path} ${one.about} ${one.group}`.toLowerCase().includes(part)),
  )
})
const active = useRowKeys('Calls', 'call', () => rows.value.length)
const call = computed(() => rows.value[active.value])
const typed = ref<Record<string, string>>({})
const said = ref('')
const asking = ref(false)
watch(call, () => {
  typed.value = {}
  said.value = ''
})
const written = (shape: Parameters<typeof example>[1]) => JSON.stringify(example(asked.data.value!, shape, home.value), null, 2)
const body = computed(() => (call.value?.body ? example(asked.data.value!, call.value.body, home.value) : null))
const line = computed(() => (call.value ? shellLine(call.value, `${location.origin}${ROOT}`, typed.value, body.value) : ''))
const lacks = computed(() => call.value?.params.some((one) => one.in === 'path' && !typed.value[one.name]) ?? false)
const can = computed(() => call.value?.method === 'GET' && !!call.value.answer && may(...(call.value.needs as Permission[])))
async function ask() {
  asking.value = true
  try {
    const answer = await fetch(`${ROOT}${addressOf(call.value!, typed.value)}`)
    const text = await answer.text()
    try {
      said.value = JSON.stringify(JSON.parse(text), null, 2)
    } catch {
      said.value = text
    }
    if (said.value.length > 20_000) said.value = `${said.value.slice(0, 20_000)}\n… and more`
  } catch {
    said.value = 'No answer came.'
  } finally {
    asking.value = false
  }
}
</script>

<template>
  <div class="flex flex-col">
    <div class="mb-3 flex flex-wrap items-center gap-3">
      <h1>For programs of your own</h1>
      <input
        v-model="typedWords"
        class="field w-64!"
        type="search"
        placeholder="Words of a call"
        aria-label="Words of a call"
        maxlength="60"
      />
      <span class="text-soft">{{ plural(rows.length, 'call') }}</span>
      <span class="ml-auto text-soft"
        >A key is made under <RouterLink class="text-slate underline" to="/setup/you">Your sign-in</RouterLink>;
        <a class="text-slate underline" :href="`${ROOT}/api/openapi.json`" target="_blank" rel="noopener">the whole as OpenAPI</a></span
      >
    </div>
    <div class="sheet flex min-h-0 flex-1 overflow-hidden">
      <Sight :of="asked" :lines="8" :empty="!rows.length" title="No call has these words" message="Try one word less.">
        <ul class="w-[300px] shrink-0 overflow-auto border-r border-rule lg:w-[380px]" aria-label="Calls">
          <template v-for="(one, n) in rows" :key="one.key">
            <li v-if="one.group !== rows[n - 1]?.group" class="label bg-shade px-3 py-1">{{ one.group }}</li>
            <li>
              <button
                type="button"
                class="relative block w-full border-b border-rule-2 px-3 py-1.5 text-left"
                :class="n === active ? 'bg-shade' : 'hover:bg-shade/60'"
                :aria-current="n === active"
                @click="active = n"
              >
                <span v-if="n === active" class="absolute inset-y-0 left-0 w-[3px] bg-asphalt" aria-hidden="true" />
                <span class="code block truncate" :title="one.path"
                  ><b>{{ one.method }}</b> {{ one.path }}</span
                ><span class="cell-2 block truncate" :title="one.about">{{ one.about }}</span>
              </button>
            </li>
          </template>
        </ul>
        <article v-if="call" class="min-w-0 flex-1 overflow-auto p-4" aria-label="The call">
          <h2 class="code break-all">{{ call.method }} {{ call.path }}</h2>
          <p class="mt-1 max-w-prose">{{ call.about }}</p>
          <p class="mt-1.5">
            <span class="text-soft">Needs </span><Tag v-for="one in call.needs" :key="one" tone="plain" class="mr-1">{{ one }}</Tag
            ><span v-if="!call.needs.length" class="text-soft">nothing but a key</span>
          </p>
          <form v-if="call.params.length" class="mt-3 flex flex-wrap gap-3" @submit.prevent="can && !lacks && ask()">
            <label v-for="one in call.params.filter((other) => ['path', 'query'].includes(other.in))" :key="one.name"
              ><span class="label">{{ one.name }}{{ one.in === 'path' ? '' : ', may stay empty' }}</span
              ><input v-model="typed[one.name]" class="field w-40!" maxlength="200"
            /></label>
            <button type="submit" class="hidden" />
          </form>
          <h3 class="label mt-4">As a line of a shell</h3>
          <pre tabindex="0" class="mt-1 overflow-x-auto rounded bg-shade p-3 text-xs select-all">{{ line }}</pre>
          <template v-if="call.body">
            <h3 class="label mt-3">What is sent, for example</h3>
            <pre tabindex="0" class="mt-1 max-h-72 overflow-auto rounded bg-shade p-3 text-xs">{{ written(call.body) }}</pre>
          </template>
          <div class="mt-3 flex items-center gap-3">
            <h3 class="label">{{ said ? 'The answer of now' : 'What is answered, for example' }}</h3>
            <Btn v-if="can" small :disabled="asking || lacks" @click="ask">{{ asking ? 'Asking…' : 'Ask it now' }}</Btn>
          </div>
          <pre v-if="said || call.answer" tabindex="0" class="mt-1 max-h-96 overflow-auto rounded bg-shade p-3 text-xs">{{
            said || written(call.answer)
          }}</pre>
          <p v-else class="mt-1 text-soft">A file, or nothing but that it was done.</p>
          <p v-if="call.refusals.length" class="mt-3 text-xs text-soft">
            Refused with {{ call.refusals.join(', ') }}; the answer says in “detail” what to do, and in “fields” what is wrong with which.
          </p>
        </article>
      </Sight>
    </div>
  </div>
</template>
