<script setup lang="ts">
/** One's own: where one is signed in, the password, the code beside it. */
import SecondStep from './SecondStep.vue'
import SignIns from './SignIns.vue'
</script>

<template>
  <div>
    <h1 class="mb-3">Your sign-in</h1>
    <SignIns class="max-w-5xl" />
    <SecondStep class="mt-4 max-w-5xl" />
  </div>
</template>
