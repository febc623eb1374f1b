<script setup lang="ts">
/** A mail once a week: profit, why it changed, what waits. */
import { useQuery } from '@tanstack/vue-query'
import { ref, watch } from 'vue'
import { api, take } from '@/api/client'
import Btn from '@/parts/Btn.vue'
import { useForm } from '@/parts/form'
import { weeklyQuery } from './books'

const DAYS = ['Monday', 'Tuesday', 'Wednesday', 'Thursday', 'Friday', 'Saturday', 'Sunday']
const { data } = useQuery(weeklyQuery())
const form = useForm()
const to = ref('')
const day = ref(0)
const touched = ref(false)
watch(
  data,
  (now) => {
    if (!now || touched.value) return
    to.value = now.to.join(', ')
    day.value = now.day
  },
  { immediate: true },
)
function save() {
  const body = { to: to.value.split(/[\s,;]+/).filter(Boolean), day: day.value }
  void form.sendAct(
    () => take(api.PUT('/api/v1/books/weekly', { body })),
    () => (touched.value = false),
  )
}
</script>

<template>
  <section>
    <h1>Weekly mail</h1>
    <p class="text-soft">What was earned in the last whole week, the three largest causes of its change, and what waits.</p>
    <form class="mt-2 flex items-end gap-3" @submit.prevent="save">
      <label class="flex-1"
        ><span class="label">To whom (mail addresses, empty = nobody)</span
        ><input v-model="to" class="field" maxlength="2000" :aria-invalid="!!form.wrong.value.to" @input="touched = true"
      /></label>
      <label
        ><span class="label">On</span
        ><select v-model="day" class="field w-36!" @change="touched = true">
          <option v-for="(name, n) in DAYS" :key="name" :value="n">{{ name }}</option>
        </select></label
      ><Btn kind="main" :disabled="!touched || form.busy.value" @click="save">Save</Btn>
    </form>
    <p v-if="form.error.value" role="alert" class="mt-2 text-brick">{{ form.error.value }}</p>
    <details v-if="data" class="mt-2 text-soft">
      <summary class="cursor-pointer">How the last week reads</summary>
      <p class="mt-2 font-bold text-ink">{{ data.subject }}</p>
      <pre class="mt-1 font-sans whitespace-pre-wrap text-ink">{{ data.text }}</pre>
    </details>
  </section>
</template>
