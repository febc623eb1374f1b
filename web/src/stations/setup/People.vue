<script setup lang="ts">
/** Who may sign in, what they may do, and where one is signed in oneself. */
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import { useForm } from '@/parts/form'
import Modal from '@/parts/Modal.vue'
import Sight from '@/parts/Sight.vue'
import When from '@/parts/When.vue'
import SecondStep from './SecondStep.vue'
import SignIns from './SignIns.vue'

type Person = Schema<'PersonOut'>
const asked = useQuery({ queryKey: ['people'], queryFn: () => take(api.GET('/api/v1/setup/people')) })
const { data } = asked
const { data: partners } = useQuery({ queryKey: ['partners'], queryFn: () => take(api.GET('/api/v1/setup/partners')) })
const ROLES: Record<string, string> = { manager: 'manager, sees all', agent: 'agent of a supplier', assistant: 'assistant for a store' }
const empty = { name: '', mail: '', password: '', role: 'manager', whose: 0 }
const form = reactive({ ...empty })
const of = reactive({ role: 'manager', whose: 0 })
const changed = ref<Person | null>(null)
const leaving = ref<Person | null>(null)
const choicesFor = (role: string) => (partners.value ?? []).filter((one) => one.owner === (role === 'agent' ? 'supplier' : 'store'))
const choices = computed(() => choicesFor(form.role))
const scopeOf = (one: Person) =>
  Object.entries(one.scope)
    .flatMap(([kind, ids]) => ids.map((id) => partners.value?.find((p) => p.id === id && `${p.owner}s` === kind)?.name ?? ''))
    .join(', ')
const { error, wrong, clear, sendAct } = useForm()
const whoseOf = (role: string, whose: number) => ({
  suppliers: role === 'agent' && whose ? [whose] : [],
  stores: role === 'assistant' && whose ? [whose] : [],
})
function add() {
  const { whose, ...rest } = form
  const body = { ...rest, ...whoseOf(form.role, whose) }
  return sendAct(
    () => take(api.POST('/api/v1/setup/people', { body })),
    () => Object.assign(form, empty),
  )
}
function change(one: Person) {
  clear()
  Object.assign(of, { role: one.role, whose: Object.values(one.scope).flat()[0] ?? 0 })
  changed.value = one
}
function keep() {
  const one = changed.value
  if (!one) return
  const body = { version: one.version, role: of.role, ...whoseOf(of.role, of.whose) }
  const path = { params: { path: { number: one.id } } }
  return sendAct(
    () => take(api.POST('/api/v1/setup/people/{number}/role', { ...path, body })),
    () => (changed.value = null),
  )
}
const { data: rule } = useQuery({ queryKey: ['second-rule'], queryFn: () => take(api.GET('/api/v1/setup/people/rule')) })
const setRule = (managers: boolean) => act(() => take(api.PUT('/api/v1/setup/people/rule', { body: { managers } })))
function takeAway() {
  const one = changed.value
  if (!one) return
  const path = { params: { path: { number: one.id } } }
  return sendAct(
    () => take(api.POST('/api/v1/setup/people/{number}/second/off', { ...path, body: { version: one.version } })),
    () => (changed.value = null),
  )
}
function remove() {
  const one = leaving.value
  if (!one) return
  const params = { path: { number: one.id }, query: { version: one.version } }
  return sendAct(
    () => take(api.DELETE('/api/v1/setup/people/{number}', { params })),
    () => (leaving.value = null),
  )
}
</script>

<template>
  <div>
    <h1 class="mb-3">People</h1>
    <div class="sheet max-w-5xl">
      <Sight :of="asked" :lines="3" />
      <table class="w-full table-fixed">
        <tbody>
          <tr v-for="one in data ?? []" :key="one.id" class="h-10 border-b border-rule-2 last:border-0">
            <td class="truncate px-4 font-semibold" style="width: 17%" :title="one.name">{{ one.name }}</td>
            <td class="truncate px-2 text-soft" :title="one.mail">{{ one.mail }}</td>
            <td class="truncate px-2" style="width: 21%">
              {{ one.role }}<span v-if="one.role !== 'manager'" class="text-soft">, {{ scopeOf(one) }}</span>
            </td>
            <td class="truncate px-2 text-soft" style="width: 105px">{{ one.second ? 'with a code' : 'no code' }}</td>
            <td class="px-2 text-right text-soft" style="width: 100px">
              <When v-if="one.seen_at" :at="one.seen_at" clock /><span v-else>never here</span>
            </td>
            <td class="px-4 text-right whitespace-nowrap" style="width: 180px">
              <Btn small class="mr-1" :aria-label="`Change ${one.name}`" @click="change(one)">Change</Btn
              ><Btn small :aria-label="`Remove ${one.name}`" @click="(clear(), (leaving = one))">Remove</Btn>
            </td>
          </tr>
        </tbody>
      </table>
      <label v-if="rule" class="flex items-center gap-3 border-t border-rule px-4 py-3"
        ><input type="checkbox" class="size-4 accent-pine" :checked="rule.managers" @change="setRule(!rule!.managers)" /><span
          ><b>Every manager signs in with a code.</b>
          <span class="ml-1 text-soft">Who has none sees nothing but where it is set up. Set up your own first.</span></span
        ></label
      >
    </div>
    <form class="sheet mt-4 grid max-w-5xl grid-cols-3 gap-3 p-4" @submit.prevent="add">
      <h2 class="col-span-3">Invite a person</h2>
      <label><span class="label">Name</span><input v-model="form.name" class="field" maxlength="80" :aria-invalid="!!wrong.name" /></label
      ><label
        ><span class="label">Mail address</span
        ><input v-model="form.mail" class="field" maxlength="200" :aria-invalid="!!wrong.mail" /></label
      ><label
        ><span class="label">First password, 12 characters or more</span
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
      <p v-if="error && !changed && !leaving" role="alert" class="col-span-3 text-brick">{{ error }}</p>
      <div class="col-span-3"><Btn kind="main" @click="add">Invite</Btn></div>
    </form>
    <SignIns class="mt-4 max-w-5xl" />
    <SecondStep class="mt-4 max-w-5xl" />
    <Modal
      v-if="changed"
      open
      :title="`What ${changed.name} may do`"
      message="It holds at once: they are signed out everywhere, and sign in anew."
      @close="changed = null"
    >
      <form class="grid grid-cols-2 gap-3" @submit.prevent="keep">
        <label
          ><span class="label">Who they are</span
          ><select v-model="of.role" class="field" @change="of.whose = 0">
            <option v-for="(word, key) in ROLES" :key="key" :value="key">{{ word }}</option>
          </select></label
        ><label v-if="of.role !== 'manager'"
          ><span class="label">{{ of.role === 'agent' ? 'Of which supplier' : 'For which store' }}</span
          ><select v-model.number="of.whose" class="field">
            <option :value="0" disabled>choose</option>
            <option v-for="one in choicesFor(of.role)" :key="one.id" :value="one.id">{{ one.name }}</option>
          </select></label
        >
        <p v-if="error" role="alert" class="col-span-2 text-brick">{{ error }}</p>
      </form>
      <p v-if="changed.second" class="mt-3 text-soft">
        {{ changed.name }} signs in with a code. Lost phone and recovery codes? Take the code away: they sign in by password until they set
        it up anew.
      </p>
      <template #acts
        ><Btn v-if="changed.second" kind="loss" class="mr-auto" @click="takeAway">Take the code away</Btn
        ><Btn @click="changed = null">Cancel</Btn><Btn kind="main" @click="keep">Save</Btn></template
      >
    </Modal>
    <Modal
      v-if="leaving"
      open
      :title="`Remove ${leaving.name}`"
      message="They are signed out everywhere at once and do not sign in any more. What they did stays theirs in the log. This cannot be undone; they can be let in anew."
      @close="leaving = null"
    >
      <p v-if="error" role="alert" class="text-brick">{{ error }}</p>
      <template #acts><Btn @click="leaving = null">Cancel</Btn><Btn kind="main" @click="remove">Remove them</Btn></template>
    </Modal>
  </div>
</template>
