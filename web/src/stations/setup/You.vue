<script setup lang="ts">
/** One's own: where one is signed in, the password, the code beside it. */
import { useQuery } from '@tanstack/vue-query'
import ProgramKeys from './ProgramKeys.vue'
import SecondStep from './SecondStep.vue'
import SignIns from './SignIns.vue'
import WorkDone from './WorkDone.vue'
import { workMineQuery } from './queries'

const { data: work } = useQuery(workMineQuery())
</script>

<template>
  <div>
    <h1 class="mb-3">Your sign-in</h1>
    <SignIns class="max-w-5xl" />
    <SecondStep class="mt-4 max-w-5xl" />
    <ProgramKeys class="mt-4 max-w-5xl" />
    <section v-if="work" class="sheet mt-4 max-w-5xl p-4">
      <h2>What is counted of your work</h2>
      <p class="mt-0.5 mb-2 text-soft">
        Whoever lets people in sees this of you, and nothing more: no times of day, and nothing you only looked at.
      </p>
      <WorkDone :of="work" />
    </section>
  </div>
</template>
