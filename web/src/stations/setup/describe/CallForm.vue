<script setup lang="ts">
/** The call of an operation: method, path, what goes in the address, and its body. */
import { computed } from 'vue'
import Pairs from './Pairs.vue'
import { BODIES, bodyOf, pairsOf, pairsText, type Body, type Call } from './description'

const props = defineProps<{ given: Record<string, string>; writes: boolean }>()
const model = defineModel<Call>()
const emit = defineEmits<{ change: [] }>()
const call = computed(() => model.value ?? {})
function put(part: Partial<Call>) {
  model.value = { ...call.value, ...part }
  emit('change')
}
const body = computed(() => bodyOf(call.value))
const WAYS = ['json', 'form', 'xml', 'graphql', 'text', 'bytes'] as const
function choose(kind: Body) {
  const rest = Object.fromEntries(
    Object.entries(call.value).filter(([key]) => !WAYS.includes(key as (typeof WAYS)[number]) && key !== 'variables'),
  ) as Call
  model.value = kind ? { ...rest, [kind]: kind === 'bytes' ? 'true' : ' ' } : rest
  emit('change')
}
const typed = (event: Event) => (event.target as HTMLInputElement).value
const words = computed(() => Object.keys(props.given))
const firstNames = computed(() =>
  words.value
    .slice(0, 3)
    .map((one) => `${one}: ${one}`)
    .join(', '),
)
const codes = computed(() =>
  Object.entries(call.value.given ?? {})
    .map(([name, pairs]) => `${name}: ${pairsText(pairs)}`)
    .join('; '),
)
function keepCodes(text: string) {
  const given: Record<string, Record<string, string>> = {}
  for (const part of text.split(';')) {
    const at = part.indexOf(':')
    if (at > 0) given[part.slice(0, at).trim()] = pairsOf(part.slice(at + 1))
  }
  put({ given })
}
</script>

<template>
  <div class="grid gap-2.5" @input.stop @change.stop>
    <div class="flex gap-2">
      <label
        ><span class="label">Method</span
        ><select class="field w-28!" :value="call.method ?? 'GET'" @change="put({ method: typed($event) })">
          <option v-for="one in writes ? ['POST', 'PUT', 'PATCH', 'DELETE', 'GET'] : ['GET', 'POST']" :key="one">{{ one }}</option>
        </select></label
      >
      <label class="flex-1"
        ><span class="label">Path, added to the address</span
        ><input class="field code" :value="call.path" maxlength="2000" placeholder="/orders" @input="put({ path: typed($event) })"
      /></label>
      <label
        ><span class="label">Body</span
        ><select class="field w-32!" :value="body" @change="choose(typed($event) as Body)">
          <option v-for="(text, key) in BODIES" :key="key" :value="key">{{ text }}</option>
        </select></label
      >
    </div>
    <p v-if="words.length" class="text-xs text-soft">
      Given here:
      <span v-for="(about, one) in given" :key="one" class="code mr-1.5" :title="about">{{ one }}</span><span
        >written as <span class="code">&#123;&#123; {{ words[0] }} &#125;&#125;</span> in a path or text</span
      >
    </p>
    <Pairs
      :model-value="call.query"
      label="In the address"
      name="Parameter"
      :words="words"
      @update:model-value="(query) => put({ query })"
    />
    <label v-if="body === 'json' || body === 'form'"
      ><span class="label"
        >{{ body === 'json' ? 'The body' : 'Its names and values' }}, made of what is given, as &#123;{{ firstNames }}&#125;</span
      ><textarea
        class="field code h-24"
        spellcheck="false"
        :value="body === 'json' ? call.json : call.form"
        @input="put({ [body]: typed($event) })"
      />
    </label>
    <label v-else-if="body === 'xml' || body === 'text'"
      ><span class="label">The body; lists are gone through with &#123;% for line in lines %&#125; … &#123;% endfor %&#125;</span
      ><textarea class="field code h-40" spellcheck="false" :value="call[body]" @input="put({ [body]: typed($event) })" />
    </label>
    <template v-else-if="body === 'graphql'">
      <label
        ><span class="label">The query or mutation</span
        ><textarea class="field code h-32" spellcheck="false" :value="call.graphql" @input="put({ graphql: typed($event) })" />
      </label>
      <label
        ><span class="label">Its variables, made of what is given, as &#123;{{ firstNames }}&#125;</span
        ><textarea class="field code h-16" spellcheck="false" :value="call.variables" @input="put({ variables: typed($event) })" />
      </label>
    </template>
    <div v-if="writes" class="grid gap-2.5">
      <Pairs
        :model-value="call.headers"
        label="Headers, such as one that stops it from being done twice"
        name="Header"
        :words="words"
        @update:model-value="(headers) => put({ headers })"
      />
      <label
        ><span class="label">Our words as theirs, as state: live = on, paused = off</span
        ><input class="field code" :value="codes" placeholder="none: it uses ours" @change="keepCodes(typed($event))"
      /></label>
      <label class="flex items-center gap-2"
        ><input
          type="checkbox"
          class="accent-pine"
          :checked="call.drop_empty === 'true'"
          @change="put({ drop_empty: call.drop_empty === 'true' ? '' : 'true' })"
        />leave out of the body what is not given</label
      >
    </div>
  </div>
</template>
