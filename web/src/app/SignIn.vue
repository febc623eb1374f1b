<script setup lang="ts">
import { ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import Btn from '@/parts/Btn.vue'
import { wordsOf } from './told'

const props = defineProps<{ here: Schema<'Here'> }>()
const emit = defineEmits<{ done: [here: Schema<'Here'>] }>()
const name = ref('')
const mail = ref('')
const password = ref('')
const error = ref('')
const busy = ref(false)

async function enter(given = { mail: mail.value, password: password.value }) {
  busy.value = true
  error.value = ''
  try {
    emit(
      'done',
      await take(
        props.here.first_start
          ? api.POST('/api/v1/session/first', { body: { ...given, name: name.value } })
          : api.POST('/api/v1/session', { body: given }),
      ),
    )
  } catch (problem) {
    error.value = wordsOf(problem)
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <div class="grid h-full grid-rows-[54px_1fr]">
    <div class="bg-asphalt" />
    <main class="mx-auto w-full max-w-sm pt-20">
      <h1>{{ here.first_start ? 'Open the house' : 'Amber Lane' }}</h1>
      <p class="mt-1 text-soft">
        {{ here.first_start ? 'Nobody is here yet. Make your account; then you join a store and a supplier.' : 'Sign in to your desk.' }}
      </p>
      <form class="sheet mt-4 p-4" @submit.prevent="enter()">
        <label v-if="here.first_start" class="mb-3 block"
          ><span class="label">Your name</span><input v-model="name" class="field" autocomplete="name" required maxlength="80"
        /></label>
        <label class="mb-3 block"
          ><span class="label">Mail address</span
          ><input v-model="mail" class="field" type="email" autocomplete="username" required maxlength="200"
        /></label>
        <label class="mb-3 block"
          ><span class="label">Password{{ here.first_start ? ', at least 10 characters' : '' }}</span
          ><input
            v-model="password"
            class="field"
            type="password"
            :autocomplete="here.first_start ? 'new-password' : 'current-password'"
            required
            maxlength="500"
        /></label>
        <p v-if="error" role="alert" class="mb-3 text-brick">{{ error }}</p>
        <button
          type="submit"
          class="h-8 rounded bg-pine px-3 font-semibold text-sheet hover:bg-pine-2 disabled:opacity-50"
          :disabled="busy"
        >
          {{ here.first_start ? 'Make my account' : 'Sign in' }}
        </button>
      </form>
      <div v-if="here.demo" class="sheet mt-4 p-4">
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
