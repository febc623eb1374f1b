<script setup lang="ts">
/** Keys of programs of one's own: what each may do, when it was last used, ended at once. */
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import { useForm } from '@/parts/form'
import When from '@/parts/When.vue'
import { myKeysQuery } from './queries'

const { data } = useQuery(myKeysQuery())
const name = ref('')
const chosen = ref(new Set<Schema<'Permission'>>())
const secret = ref('')
const may = computed(() => data.value?.may ?? [])
const { error, wrong, send } = useForm()
function toggle(one: Schema<'Permission'>) {
  const next = new Set(chosen.value)
  if (!next.delete(one)) next.add(one)
  chosen.value = next
}
async function make() {
  const done = await send(() => take(api.POST('/api/v1/my-keys', { body: { name: name.value, permissions: [...chosen.value] } })))
  if (!done) return
  secret.value = done.secret
  name.value = ''
  chosen.value = new Set()
  void act(() => Promise.resolve(done))
}
const end = (one: number) => act(() => take(api.DELETE('/api/v1/my-keys/{number}', { params: { path: { number: one } } })))
</script>

<template>
  <section v-if="data && may.length" class="sheet p-4">
    <h2>Programs of your own</h2>
    <p class="mt-0.5 text-soft">
      A key lets a program of yours do what you choose for it here, and never more than you may yourself. What there is to call:
      <RouterLink class="font-semibold text-slate underline" to="/setup/calls">every call with an example</RouterLink>.
    </p>
    <table v-if="data.keys.length" class="mt-2 w-full table-fixed">
      <tbody>
        <tr v-for="one in data.keys" :key="one.id" class="h-10 border-b border-rule-2">
          <td class="truncate pr-2 font-semibold" style="width: 22%" :title="one.name">{{ one.name }}</td>
          <td class="truncate px-2 text-soft" :title="one.permissions.join(', ')">{{ one.permissions.join(', ') }}</td>
          <td class="px-2 text-right text-soft" style="width: 150px">
            <template v-if="one.used_at">used <When :at="one.used_at" clock /></template><template v-else>not used yet</template>
          </td>
          <td class="pl-2 text-right" style="width: 80px">
            <Btn small :aria-label="`End the key ${one.name}`" @click="end(one.id)">End</Btn>
          </td>
        </tr>
      </tbody>
    </table>
    <form class="mt-3" @submit.prevent="make">
      <label class="block max-w-sm"
        ><span class="label">What the program is called</span
        ><input v-model="name" class="field" maxlength="60" :aria-invalid="!!wrong.name" autocomplete="off"
      /></label>
      <fieldset class="mt-2">
        <legend class="label">What it may do</legend>
        <div class="flex flex-wrap gap-x-5">
          <label v-for="one in may" :key="one" class="flex min-h-7 items-center gap-2"
            ><input type="checkbox" class="size-4 accent-pine" :checked="chosen.has(one)" @change="toggle(one)" />{{ one }}</label
          >
        </div>
      </fieldset>
      <p v-if="error" role="alert" class="mt-2 text-brick">{{ error }}</p>
      <p v-if="secret" role="status" class="mt-2 rounded border border-amber bg-amber-wash px-3 py-2">
        Keep it now, it is shown this once: <code class="font-mono break-all select-all">{{ secret }}</code>
      </p>
      <div class="mt-3"><Btn @click="make">Make a key</Btn></div>
    </form>
  </section>
</template>
