<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { reactive, ref } from 'vue'
import { ApiError, api, take } from '@/api/client'
import { act, wordsOf } from '@/app/told'
import Btn from '@/parts/Btn.vue'

const { data } = useQuery({ queryKey: ['people'], queryFn: () => take(api.GET('/api/v1/setup/people')) })
const form = reactive({ name: '', mail: '', password: '' })
const error = ref('')
const wrong = ref<Record<string, string>>({})
async function add() {
  error.value = ''
  try {
    const done = await take(api.POST('/api/v1/setup/people', { body: { ...form } }))
    Object.assign(form, { name: '', mail: '', password: '' })
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
      <table class="w-full">
        <tbody>
          <tr v-for="one in data ?? []" :key="one.id" class="h-10 border-b border-rule-2 last:border-0">
            <td class="px-4 font-semibold">{{ one.name }}</td>
            <td class="px-4 text-soft">{{ one.mail }}</td>
            <td class="px-4 text-right">{{ one.role }}</td>
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
      <p v-if="error" role="alert" class="col-span-3 text-brick">{{ error }}</p>
      <div class="col-span-3"><Btn kind="main" @click="add">Let them in</Btn></div>
    </form>
  </div>
</template>
