<script setup lang="ts">
/** Where a partner sends a person back to who has signed in there: what was brought along is exchanged for a key, which is kept. */
import { onMounted, ref } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'
import { api, take } from '@/api/client'
import { tell, wordsOf } from '@/app/messages'

const route = useRoute()
const router = useRouter()
const wrong = ref('')
const brought = (name: string) => (typeof route.query[name] === 'string' ? (route.query[name] as string) : '')
onMounted(async () => {
  const code = brought('code')
  const state = brought('state')
  if (!code || !state) {
    wrong.value = brought('error')
      ? 'The partner did not let us in: the sign-in was not agreed to there.'
      : 'Nothing was brought back from a partner.'
    return
  }
  try {
    const done = await take(api.POST('/api/v1/setup/signed-in', { body: { code, state } }))
    tell(done.message)
    void router.replace(`/setup/descriptions?one=${done.description}`)
  } catch (problem) {
    wrong.value = wordsOf(problem)
  }
})
</script>

<template>
  <div class="p-6">
    <h1>Sign-in at the partner</h1>
    <p v-if="wrong" role="alert" class="mt-3 max-w-xl rounded bg-brick-wash px-3 py-2 text-brick">{{ wrong }}</p>
    <p v-else class="mt-3 text-soft" role="status">Fetching the key…</p>
    <p v-if="wrong" class="mt-3">
      <RouterLink class="text-slate underline" to="/setup/descriptions">Back to described partners</RouterLink>
    </p>
  </div>
</template>
