<script setup lang="ts">
/** Words replaced or taken out, whole words only; what a rule would change is seen before it is kept. */
import { watchDebounced } from '@vueuse/core'
import { useQuery } from '@tanstack/vue-query'
import { reactive, ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act, wordsOf } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import { plural, count } from '@/parts/format'
import Sight from '@/parts/Sight.vue'
import { phrasesQuery } from './queries'

const props = defineProps<{ stores: Schema<'ShelfStore'>[] }>()
const emit = defineEmits<{ close: [] }>()
const asked = useQuery(phrasesQuery())
const { data } = asked
const form = reactive({ find: '', put: '', store: null as number | null })
const effect = ref<Schema<'EffectOut'> | null>(null)
const error = ref('')
watchDebounced(
  form,
  async () => {
    error.value = ''
    effect.value = null
    if (!form.find.trim()) return
    try {
      effect.value = await take(api.POST('/api/v1/shelf/phrases/try', { body: { ...form } }))
    } catch (problem) {
      error.value = wordsOf(problem)
    }
  },
  { debounce: 250 },
)
async function keep() {
  if (await act(() => take(api.POST('/api/v1/shelf/phrases', { body: { ...form } })))) Object.assign(form, { find: '', put: '' })
}
const drop = (id: number) => act(() => take(api.DELETE('/api/v1/shelf/phrases/{number}', { params: { path: { number: id } } })))
const nameOf = (id: number | null | undefined) => props.stores.find((one) => one.id === id)?.name ?? 'all stores'
</script>

<template>
  <Modal
    open
    wide
    title="Phrases"
    message="Whole words only, whatever their capitals. New listings are cleaned by these when they are prepared; a supplier’s name never reaches a buyer in any case."
    @close="emit('close')"
  >
    <div class="grid grid-cols-[1fr_1fr_160px] gap-2">
      <label><span class="label">Where it says</span><input v-model="form.find" class="field" maxlength="100" /></label>
      <label><span class="label">say (empty = take it out)</span><input v-model="form.put" class="field" maxlength="100" /></label>
      <label
        ><span class="label">in</span
        ><select v-model="form.store" class="field">
          <option :value="null">all stores</option>
          <option v-for="one in stores" :key="one.id" :value="one.id">{{ one.name }}</option>
        </select></label
      >
    </div>
    <p v-if="error" role="alert" class="mt-2 text-brick">{{ error }}</p>
    <div v-if="effect" class="mt-3">
      <p>
        <b>{{ count(effect.count) }}</b> of {{ count(effect.of) }} listings would change
      </p>
      <div v-if="effect.first.length" class="mt-1 max-h-52 overflow-auto rounded border border-rule">
        <div
          v-for="one in effect.first"
          :key="one.listing"
          class="grid grid-cols-[150px_1fr] gap-2 border-b border-rule-2 px-3 py-1.5 last:border-0"
        >
          <span class="code truncate">{{ one.sku }}</span><span
            ><span class="block text-soft line-through">{{ one.before }}</span
            ><span class="block">{{ one.after }}</span></span
          >
        </div>
      </div>
      <Btn class="mt-2" kind="main" @click="keep">Keep the rule, change {{ plural(effect.count, 'listing') }}</Btn>
    </div>
    <h2 class="mt-5 mb-1">Rules in force</h2>
    <Sight :of="asked" :lines="2" />
    <div v-for="one in data ?? []" :key="one.id" class="flex items-center gap-3 border-b border-rule-2 py-1.5">
      <span
        ><b>{{ one.find }}</b> → <b>{{ one.put || 'nothing' }}</b></span
      ><span class="text-soft">{{ nameOf(one.store) }}</span
      ><Btn small class="ml-auto" @click="drop(one.id)">Take away</Btn>
    </div>
    <p v-if="data && !data.length" class="text-soft">There is none yet. Try “wholesale” or a maker’s slogan above.</p>
    <template #acts><Btn @click="emit('close')">Close</Btn></template>
  </Modal>
</template>
