<script setup lang="ts">
import { useEventListener } from '@vueuse/core'
import { onMounted, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { api, signedOut, take, type Schema } from '@/api/client'
import AgentDesk from '@/stations/agent/AgentDesk.vue'
import SecondStep from '@/stations/setup/SecondStep.vue'
import Finder from './Finder.vue'
import KeysHelp from './KeysHelp.vue'
import PulseBar from './PulseBar.vue'
import Road from './Road.vue'
import SignIn from './SignIn.vue'
import { onKey } from './keys'
import { hush, listen, live, lookNow } from './live'
import { message, wordsOf } from './messages'
import { take as takeRights } from './may'
import { opens } from './router'
import { place } from '@/parts/format'
import Empty from '@/parts/Empty.vue'
import { home, rulesIn } from '@/parts/home'

type Here = Schema<'Here'>
const route = useRoute()
const here = ref<Here | null>(null)
const error = ref('')
/** Who came in by an invitation is offered a code beside the password first. */
const offered = ref(false)
// The house's time and counts are known before the first view is shown, so that nothing is told by a wrong clock.
const ready = ref(false)
const finder = ref(false)
const help = ref(false)

async function look() {
  try {
    arrive(await take(api.GET('/api/v1/session')))
    error.value = ''
  } catch (problem) {
    error.value = wordsOf(problem)
  }
}
/** Who is here, with what they may do. */
function arrive(who: Here) {
  takeRights(who)
  if (who.house) settle(who.house)
  here.value = who
}
/** The house's money and clocks, also where somebody has just changed them. */
function settle(house: Schema<'HouseManner'>) {
  home.value = house.home
  rulesIn.value = house.rules
  const { zone, dates, country, decimal, group, sign_after } = house
  Object.assign(place, { zone, dates, country, decimal, group, sign_after })
}
watch(
  () => live.pulse.value?.house,
  (house) => house && settle(house),
)
const leave = () => take(api.DELETE('/api/v1/session')).then(look, look)
const out = () => here.value?.name && void look()
watch(
  () => here.value?.name && !here.value.must,
  async (inside) => {
    if (!inside || here.value?.own_page) return hush()
    listen()
    if (!live.pulse.value) await lookNow()
    ready.value = true
  },
)
onMounted(() => {
  void look()
})
useEventListener(window, 'keydown', onKey)
useEventListener(signedOut, 'out', out)
</script>

<template>
  <div v-if="error && !here" class="grid h-full place-items-center">
    <div role="alert" class="text-center">
      <p class="font-bold">{{ error }}</p>
      <button type="button" class="mt-3 font-semibold text-slate underline" @click="look">Try again</button>
    </div>
  </div>
  <SignIn v-else-if="here && !here.name" :here="here" @done="(who, fresh) => (arrive(who), (offered = fresh && !who.must))" />
  <div v-else-if="here && offered" class="grid h-full grid-rows-[54px_1fr]">
    <div class="bg-asphalt" />
    <main class="mx-auto w-full max-w-3xl pt-16">
      <h1>You are in, {{ here.name }}</h1>
      <p class="mt-1 mb-4 text-soft">A code beside the password keeps others out even if they learn it. Setting it up takes a minute.</p>
      <SecondStep @done="((offered = false), look())" />
      <button type="button" class="mt-4 font-semibold text-slate hover:underline" @click="offered = false">Not now, go to the desk</button>
    </main>
  </div>
  <div v-else-if="here && here.must" class="grid h-full grid-rows-[54px_1fr]">
    <div class="bg-asphalt" />
    <main class="mx-auto w-full max-w-3xl pt-16">
      <h1>One thing before you go in</h1>
      <p class="mt-1 mb-4 text-soft">Every manager here signs in with a code beside the password. Setting it up takes a minute.</p>
      <SecondStep @done="look" />
      <button type="button" class="mt-4 font-semibold text-slate hover:underline" @click="leave">Sign out</button>
    </main>
  </div>
  <AgentDesk v-else-if="here && here.own_page" :here="here" @left="look" />
  <div v-else-if="here && ready" class="flex h-full min-w-[1000px] flex-col">
    <Road :here="here" @find="finder = true" @help="help = true" @left="look" />
    <main class="relative min-h-0 flex-1">
      <RouterView v-if="opens(String(route.meta.station ?? route.name))" />
      <Empty v-else title="This is not yours to see" :message="`You are here as ${here.role}. Whoever lets people in can give you more.`">
        <RouterLink to="/today" class="font-semibold text-slate underline">Go to Today</RouterLink>
      </Empty>
    </main>
    <PulseBar />
    <Finder :open="finder" @close="finder = false" @open="finder = true" @help="help = true" />
    <KeysHelp :open="help" :version="here.version" @close="help = false" @open="help = true" />
    <div
      v-if="!live.state.connected && live.pulse.value"
      role="alert"
      class="fixed top-16 left-1/2 z-30 -translate-x-1/2 rounded border border-brick bg-brick-wash px-3 py-1.5 text-brick"
    >
      Amber Lane does not answer. This page shows what it last knew; it goes on by itself when it is back.
    </div>
  </div>
  <div aria-live="polite" class="pointer-events-none fixed bottom-12 left-1/2 z-50 flex w-[560px] -translate-x-1/2 flex-col gap-1.5">
    <p
      v-for="one in message"
      :key="one.id"
      class="rounded border px-3 py-2 text-center font-semibold"
      :class="one.bad ? 'border-brick bg-brick-wash text-brick' : 'border-pine bg-pine-wash text-pine'"
    >
      <span>{{ one.text }}</span><span v-if="one.undo" class="block truncate text-xs font-normal">{{ one.undo }}</span>
    </p>
  </div>
</template>
