<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref } from 'vue'
import { ApiError, api, take, type Schema } from '@/api/client'
import { act, wordsOf } from '@/app/told'
import Btn from '@/parts/Btn.vue'
import Sight from '@/parts/Sight.vue'

const asked = useQuery({ queryKey: ['people'], queryFn: () => take(api.GET('/api/v1/setup/people')) })
const { data } = asked
const { data: partners } = useQuery({ queryKey: ['partners'], queryFn: () => take(api.GET('/api/v1/setup/partners')) })
const ROLES: Record<string, string> = { manager: 'manager, sees all', agent: 'agent of a supplier', assistant: 'assistant for a store' }
const form = reactive({ name: '', mail: '', password: '', role: 'manager', whose: 0 })
const choices = computed(() => (partners.value ?? []).filter((one) => one.owner === (form.role === 'agent' ? 'supplier' : 'store')))
const scopeOf = (one: Schema<'PersonOut'>) =>
  Object.entries(one.scope)
    .flatMap(([kind, ids]) => ids.map((id) => partners.value?.find((p) => p.id === id && `${p.owner}s` === kind)?.name ?? ''))
    .join(', ')
const error = ref('')
const wrong = ref<Record<string, string>>({})
async function add() {
  error.value = ''
  const { whose, ...rest } = form
  const ids = whose ? [whose] : []
  const body = { ...rest, suppliers: form.role === 'agent' ? ids : [], stores: form.role === 'assistant' ? ids : [] }
  try {
    const done = await take(api.POST('/api/v1/setup/people', { body }))
    Object.assign(form, { name: '', mail: '', password: '', role: 'manager', whose: 0 })
    wrong.value = {}
    void act(() => Promise.resolve(done))
  } catch (problem) {
    error.value = wordsOf(problem)
    wrong.value = problem instanceof ApiError ? problem.fields : {}
  }
}
</script>

<template>
  <div>
    <h1 class="mb-3">People</h1>
    <div class="sheet max-w-2xl">
      <Sight :of="asked" :lines="3" />
      <table class="w-full">
        <tbody>
          <tr v-for="one in data ?? []" :key="one.id" class="h-10 border-b border-rule-2 last:border-0">
            <td class="px-4 font-semibold">{{ one.name }}</td>
            <td class="px-4 text-soft">{{ one.mail }}</td>
            <td class="px-4 text-right">
              {{ one.role }}<span v-if="one.role !== 'manager'" class="text-soft">, {{ scopeOf(one) }}</span>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <form class="sheet mt-4 grid max-w-2xl grid-cols-3 gap-3 p-4" @submit.prevent="add">
      <h2 class="col-span-3">Let somebody in</h2>
      <label><span class="label">Name</span><input v-model="form.name" class="field" maxlength="80" :aria-invalid="!!wrong.name" /></label
      ><label
        ><span class="label">Mail address</span
        ><input v-model="form.mail" class="field" maxlength="200" :aria-invalid="!!wrong.mail" /></label
      ><label
        ><span class="label">First password</span
        ><input
          v-model="form.password"
          type="password"
          autocomplete="new-password"
          class="field"
          maxlength="500"
          :aria-invalid="!!wrong.password"
      /></label>
      <label
        ><span class="label">Who they are</span
        ><select v-model="form.role" class="field" @change="form.whose = 0">
          <option v-for="(word, key) in ROLES" :key="key" :value="key">{{ word }}</option>
        </select></label
      ><label v-if="form.role !== 'manager'"
        ><span class="label">{{ form.role === 'agent' ? 'Of which supplier' : 'For which store' }}</span
        ><select v-model.number="form.whose" class="field">
          <option :value="0" disabled>choose</option>
          <option v-for="one in choices" :key="one.id" :value="one.id">{{ one.name }}</option>
        </select></label
      >
      <p v-if="form.role !== 'manager'" class="col-span-3 text-soft">
        They see the purchase orders of {{ form.role === 'agent' ? 'that supplier' : 'that store' }} and nothing else: no prices, no other
        orders. All that they do is in the log.
      </p>
      <p v-if="error" role="alert" class="col-span-3 text-brick">{{ error }}</p>
      <div class="col-span-3"><Btn kind="main" @click="add">Let them in</Btn></div>
    </form>
  </div>
</template>
