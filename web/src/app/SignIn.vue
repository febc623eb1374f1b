<script setup lang="ts">
import { computed, onMounted, reactive, ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import Btn from '@/parts/Btn.vue'
import { useForm } from '@/parts/form'
import ZoneField from '@/parts/ZoneField.vue'

const props = defineProps<{ here: Schema<'Here'> }>()
/** fresh: they came in for the first time, by an invitation. */
const emit = defineEmits<{ done: [here: Schema<'Here'>, fresh: boolean] }>()
const name = ref('')
const mail = ref('')
const password = ref('')
const code = ref('')
/** Where the house is: as this browser knows it, until somebody says otherwise. */
const house = reactive({
  country: new Intl.Locale(navigator.language).region ?? '',
  zone: Intl.DateTimeFormat().resolvedOptions().timeZone,
  currency: '',
})
/** What a mailed link brought: it stands behind the #, which is never sent to any server. */
const link = ref(/^#new-password=(.+)$/.exec(window.location.hash)?.[1] ?? '')
const invitation = ref(/^#invited=(.+)$/.exec(window.location.hash)?.[1] ?? '')
const step = ref<'first' | 'in' | 'code' | 'forgot' | 'anew' | 'invited'>(
  props.here.first_start ? 'first' : invitation.value ? 'invited' : link.value ? 'anew' : 'in',
)
const said = ref('')
const { error, needs, busy, clear, send } = useForm()

const vFocus = { mounted: (field: HTMLElement) => field.focus() }
const HEAD = {
  first: [
    'Set up Amber Lane',
    'Nobody is here yet. Make your account and say where you are; then connect a store and a supplier.',
    'Make my account',
  ],
  in: ['Amber Lane', 'Sign in to your desk.', 'Sign in'],
  code: ['One more step', 'The code that your phone shows now, or one of your recovery codes.', 'Sign in'],
  forgot: ['A new password', 'We mail you a link under which you say a new one. It is good for an hour, and once.', 'Mail me the link'],
  invited: ['You are let in', 'Say your name and a password of your own. The link works once.', 'Come in'],
  anew: ['A new password', 'Say it here; then sign in with it.', 'Take this one'],
} as const
/** Who is invited, as the link says; a link that is good no more leads to signing in. */
const invited = ref<Schema<'InvitedOut'> | null>(null)
onMounted(async () => {
  if (step.value !== 'invited') return
  invited.value = (await send(() => take(api.POST('/api/v1/session/invitation', { body: { link: invitation.value } })))) ?? null
  if (invited.value) name.value = invited.value.name
})
const asksMail = computed(() => ['first', 'in', 'forgot'].includes(step.value))
const asksName = computed(() => step.value === 'first' || (step.value === 'invited' && invited.value))
const asksPassword = computed(() => ['first', 'in', 'anew'].includes(step.value) || (step.value === 'invited' && invited.value))
const fresh = computed(() => ['first', 'anew', 'invited'].includes(step.value))

function turn(to: typeof step.value) {
  clear()
  said.value = code.value = ''
  step.value = to
}
async function enter(given = { mail: mail.value, password: password.value }, arriving = false) {
  const first = step.value === 'first'
  // Asked for once more together with the code.
  mail.value = given.mail
  password.value = given.password
  const done = await send(() =>
    take(
      first
        ? api.POST('/api/v1/session/first', { body: { ...given, name: name.value, ...house } })
        : api.POST('/api/v1/session', { body: { ...given, code: code.value } }),
    ),
  )
  if (done) return emit('done', done, arriving)
  if (needs.value === 'code' && step.value === 'in') turn('code')
  code.value = ''
}
async function go() {
  if (step.value === 'forgot') {
    const done = await send(() => take(api.POST('/api/v1/session/forgotten', { body: { mail: mail.value } })))
    if (done) said.value = done.message
  } else if (step.value === 'invited') {
    const of = invited.value
    if (!of) return
    const body = { link: invitation.value, name: name.value, password: password.value }
    if (!(await send(() => take(api.POST('/api/v1/session/invitation/accept', { body }))))) return
    window.history.replaceState(null, '', window.location.pathname)
    invitation.value = ''
    turn('in')
    await enter({ mail: of.mail, password: password.value }, true)
  } else if (step.value === 'anew') {
    const body = { link: link.value, password: password.value }
    const done = await send(() => take(api.POST('/api/v1/session/new-password', { body })))
    if (!done) return
    window.history.replaceState(null, '', window.location.pathname)
    password.value = link.value = ''
    turn('in')
    said.value = done.message
  } else {
    await enter()
  }
}
</script>

<template>
  <div class="grid h-full grid-rows-[54px_1fr]">
    <div class="bg-asphalt" />
    <main class="mx-auto w-full max-w-sm pt-20">
      <h1>{{ HEAD[step][0] }}</h1>
      <p class="mt-1 text-soft">{{ HEAD[step][1] }}</p>
      <form class="sheet mt-4 p-4" @submit.prevent="go">
        <p v-if="step === 'invited' && invited" class="mb-3">
          You sign in as <b>{{ invited.mail }}</b>; your role here is <b>{{ invited.role }}</b>.
        </p>
        <label v-if="asksName" class="mb-3 block"
          ><span class="label">Your name</span><input v-model="name" class="field" autocomplete="name" required maxlength="80"
        /></label>
        <label v-if="asksMail" class="mb-3 block"
          ><span class="label">Mail address</span
          ><input v-model="mail" class="field" type="email" autocomplete="username" required maxlength="200"
        /></label>
        <label v-if="asksPassword" class="mb-3 block"
          ><span class="label">Password{{ fresh ? ', at least 12 characters' : '' }}</span
          ><input
            v-model="password"
            class="field"
            type="password"
            :autocomplete="fresh ? 'new-password' : 'current-password'"
            required
            maxlength="500"
        /></label>
        <div v-if="step === 'first'" class="mb-3 grid grid-cols-[80px_1fr_96px] gap-3">
          <label
            ><span class="label">Country</span
            ><input v-model="house.country" class="field uppercase" maxlength="2" pattern="[A-Za-z]{2}" title="two letters" required
          /></label>
          <label><span class="label">Time zone</span><ZoneField v-model="house.zone" /></label>
          <label
            ><span class="label">Currency</span
            ><input
              v-model="house.currency"
              class="field uppercase placeholder:normal-case"
              maxlength="3"
              pattern="[A-Za-z]{3}"
              placeholder="country’s"
          /></label>
        </div>
        <label v-if="step === 'code'" class="mb-3 block"
          ><span class="label">Code</span
          ><input v-model="code" v-focus class="field font-mono" autocomplete="one-time-code" required maxlength="40"
        /></label>
        <p v-if="error" role="alert" class="mb-3 text-brick">{{ error }}</p>
        <p v-if="said" role="status" class="mb-3 font-semibold text-pine">{{ said }}</p>
        <div class="flex items-center justify-between">
          <button
            type="submit"
            class="h-8 rounded bg-pine px-3 font-semibold text-sheet hover:bg-pine-2 disabled:opacity-50"
            :disabled="busy || (step === 'invited' && !invited)"
          >
            {{ HEAD[step][2] }}
          </button>
          <Btn v-if="step === 'in'" kind="link" @click="turn('forgot')">I forgot my password</Btn>
          <Btn v-else-if="step !== 'first'" kind="link" @click="turn('in')">Back to signing in</Btn>
        </div>
      </form>
      <p v-if="step === 'forgot'" class="mt-3 text-soft">
        Where no mail server is connected, no link can be sent: another manager lets you in anew under People, or whoever runs this machine
        does by
        <code class="font-mono">amber-lane new-password</code>.
      </p>
      <div v-if="here.demo && step === 'in'" class="sheet mt-4 p-4">
        <h2>This is the demo</h2>
        <p class="mt-1 mb-3 text-soft">
          Dusk &amp; Dial of Whitby, with a practice world that lives on its own clock. Everything in it is made up.
        </p>
        <Btn kind="main" :disabled="busy" @click="enter({ mail: here.demo!.mail, password: here.demo!.password })"
          >Go in as its manager</Btn
        >
      </div>
    </main>
  </div>
</template>
