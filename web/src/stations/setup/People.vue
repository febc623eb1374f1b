<script setup lang="ts">
/** Who may sign in and what they may do: people, how one is let in, and roles. */
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import { useForm } from '@/parts/form'
import Modal from '@/parts/Modal.vue'
import Sight from '@/parts/Sight.vue'
import Tag from '@/parts/Tag.vue'
import When from '@/parts/When.vue'
import Roles from './Roles.vue'
import WhoFields from './WhoFields.vue'
import WorkDone from './WorkDone.vue'
import { nobody, peopleQuery, rolesQuery, scopeOf, whoOf, type Who } from './people'
import { secondRuleQuery, workQuery } from './queries'

type Person = Schema<'PersonOut'>
const asked = useQuery(peopleQuery())
const { data } = asked
const { data: roles } = useQuery(rolesQuery())
const form = reactive({ name: '', mail: '' })
const who = ref<Who>(nobody())
const of = ref<Who>(nobody())
const changed = ref<Person | null>(null)
const leaving = ref<Person | null>(null)
/** A link that no mailbox could take: handed over by hand, shown this once. */
const link = ref('')
const { error, wrong, clear, send, sendAct } = useForm()
async function invite(call: () => Promise<Schema<'Invited'>>) {
  link.value = ''
  const done = await send(call)
  if (!done) return
  link.value = done.link
  void act(() => Promise.resolve(done))
  return done
}
async function add() {
  const done = await invite(() => take(api.POST('/api/v1/setup/people', { body: { ...form, ...who.value } })))
  if (!done) return
  Object.assign(form, { name: '', mail: '' })
  who.value = nobody(who.value.role)
}
const again = (one: Person) =>
  invite(() => take(api.POST('/api/v1/setup/people/{number}/invite', { params: { path: { number: one.id } } })))
function change(one: Person) {
  clear()
  of.value = whoOf(one)
  changed.value = one
}
function keep() {
  const one = changed.value
  if (!one) return
  const path = { params: { path: { number: one.id } } }
  return sendAct(
    () => take(api.POST('/api/v1/setup/people/{number}/role', { ...path, body: { version: one.version, ...of.value } })),
    () => (changed.value = null),
  )
}
/** Whose work is looked at, and over how many days. */
const looked = ref<Person | null>(null)
const days = ref(30)
const { data: work } = useQuery(computed(() => ({ ...workQuery(looked.value?.id ?? 0, days.value), enabled: !!looked.value })))
const { data: rule } = useQuery(secondRuleQuery())
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
    <div class="sheet max-w-6xl">
      <Sight :of="asked" :lines="3" />
      <table class="w-full table-fixed">
        <tbody>
          <tr v-for="one in data ?? []" :key="one.id" class="h-10 border-b border-rule-2 last:border-0">
            <td class="truncate px-4 font-semibold" style="width: 17%" :title="one.name">{{ one.name }}</td>
            <td class="truncate px-2 text-soft" :title="one.mail">{{ one.mail }}</td>
            <td class="truncate px-2" style="width: 21%" :title="scopeOf(one, roles)">
              {{ one.role }}<span v-if="scopeOf(one, roles)" class="text-soft">, {{ scopeOf(one, roles) }}</span>
            </td>
            <td class="truncate px-2 text-soft" style="width: 105px">
              <Tag v-if="one.invited" tone="waits">invited</Tag><template v-else>{{ one.second ? 'with a code' : 'no code' }}</template>
            </td>
            <td class="px-2 text-right text-soft" style="width: 100px">
              <When v-if="one.seen_at" :at="one.seen_at" clock /><span v-else>never here</span>
            </td>
            <td class="px-4 text-right whitespace-nowrap" style="width: 240px">
              <Btn v-if="one.invited" small class="mr-1" :aria-label="`A new link for ${one.name}`" @click="again(one)">New link</Btn
              ><Btn v-else small class="mr-1" :aria-label="`What ${one.name} did`" @click="looked = one">Work</Btn
              ><Btn small class="mr-1" :aria-label="`Change ${one.name}`" @click="change(one)">Change</Btn
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
    <form v-if="roles" class="sheet mt-4 max-w-6xl p-4" @submit.prevent="add">
      <h2>Invite a person</h2>
      <p class="mt-0.5 mb-3 text-soft">They get a link by mail, good for a week, and say a password of their own there.</p>
      <div class="mb-3 grid grid-cols-3 gap-3">
        <label
          ><span class="label">Mail address</span
          ><input v-model="form.mail" class="field" maxlength="200" :aria-invalid="!!wrong.mail" autocomplete="off" /></label
        ><label
          ><span class="label">Name, if you know it</span
          ><input v-model="form.name" class="field" maxlength="80" :aria-invalid="!!wrong.name" autocomplete="off"
        /></label>
      </div>
      <WhoFields v-model="who" :of="roles" :wrong="wrong" />
      <p v-if="error && !changed && !leaving" role="alert" class="mt-3 text-brick">{{ error }}</p>
      <p v-if="link" role="status" class="mt-3 rounded border border-amber bg-amber-wash px-3 py-2">
        Hand this link over yourself; it is shown this once: <code class="font-mono break-all select-all">{{ link }}</code>
      </p>
      <div class="mt-3"><Btn kind="main" @click="add">Invite</Btn></div>
    </form>
    <Roles v-if="roles" class="mt-4 max-w-6xl" :of="roles" />
    <Modal
      v-if="changed && roles"
      open
      :title="`What ${changed.name} may do`"
      message="It holds at once: they are signed out everywhere, and sign in anew."
      broad
      @close="changed = null"
    >
      <form @submit.prevent="keep">
        <WhoFields v-model="of" :of="roles" :wrong="wrong" />
        <p v-if="error" role="alert" class="mt-3 text-brick">{{ error }}</p>
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
      v-if="looked"
      open
      :title="`What ${looked.name} did`"
      message="For coaching and pay. They see the same under their own sign-in, and nothing else is counted."
      @close="looked = null"
    >
      <select v-model.number="days" class="field mb-3 w-44!" aria-label="Over how many days">
        <option :value="1">today</option>
        <option :value="7">the last 7 days</option>
        <option :value="30">the last 30 days</option>
        <option :value="90">the last 90 days</option>
      </select>
      <WorkDone v-if="work" :of="work" />
      <template #acts><Btn @click="looked = null">Close</Btn></template>
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
