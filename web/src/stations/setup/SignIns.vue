<script setup lang="ts">
/** Where one is signed in oneself, and one's own password. */
import { useQuery } from '@tanstack/vue-query'
import { reactive } from 'vue'
import { api, take } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import { useForm } from '@/parts/form'
import Sight from '@/parts/Sight.vue'
import Tag from '@/parts/Tag.vue'
import When from '@/parts/When.vue'
import { signInsQuery } from './queries'

const asked = useQuery(signInsQuery())
const { data } = asked
const form = reactive({ was: '', fresh: '' })
const { error, wrong, sendAct } = useForm()
const end = (one: number) => act(() => take(api.DELETE('/api/v1/session/mine/{one}', { params: { path: { one } } })))
/** The browser and the machine, out of the line that browsers send of themselves. */
function machine(program: string) {
  const on = ['Windows', 'Android', 'iPhone', 'iPad', 'Mac OS', 'Linux'].find((name) => program.includes(name))
  return on ?? (program.split(' ')[0] || 'unknown')
}
const change = () =>
  sendAct(
    () => take(api.POST('/api/v1/session/password', { body: { ...form } })),
    () => Object.assign(form, { was: '', fresh: '' }),
  )
</script>

<template>
  <section class="sheet p-4">
    <h2>Where you are signed in</h2>
    <Sight :of="asked" :lines="2" />
    <table class="mt-2 w-full table-fixed">
      <tbody>
        <tr v-for="one in data ?? []" :key="one.id" class="h-9 border-t border-rule-2">
          <td class="truncate" style="width: 40%" :title="one.program">{{ machine(one.program) }}, from {{ one.address || 'unknown' }}</td>
          <td class="truncate px-2 text-soft">since <When :at="one.at" clock /></td>
          <td class="truncate px-2 text-soft">last here <When :at="one.seen_at" clock /></td>
          <td class="text-right" style="width: 110px">
            <Tag v-if="one.this" tone="plain">this one</Tag><Btn v-else small @click="end(one.id)">End it</Btn>
          </td>
        </tr>
      </tbody>
    </table>
    <form class="mt-4 grid grid-cols-3 items-end gap-3 border-t border-rule-2 pt-3" @submit.prevent="change">
      <label
        ><span class="label">Your password until now</span
        ><input
          v-model="form.was"
          type="password"
          autocomplete="current-password"
          class="field"
          maxlength="500"
          :aria-invalid="!!wrong.was" /></label
      ><label
        ><span class="label">The new one, 12 characters or more</span
        ><input
          v-model="form.fresh"
          type="password"
          autocomplete="new-password"
          class="field"
          maxlength="500"
          :aria-invalid="!!wrong.password"
      /></label>
      <div><Btn @click="change">Change the password</Btn></div>
      <p v-if="error" role="alert" class="col-span-3 text-brick">{{ error }}</p>
    </form>
  </section>
</template>
