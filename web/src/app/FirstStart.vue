<script setup lang="ts">
/** The first steps of a house without partners: a store, then a supplier. */
import { computed } from 'vue'
import type { Schema } from '@/api/client'
import JoinForm from '@/stations/setup/JoinForm.vue'

const props = defineProps<{ here: Schema<'Here'> }>()
const emit = defineEmits<{ done: [] }>()
const step = computed(() => (props.here.stores ? 'supplier' : 'store'))
</script>

<template>
  <div class="mx-auto max-w-2xl overflow-auto py-10">
    <ol class="mb-5 flex gap-6 text-sm">
      <li :class="step === 'store' ? 'font-bold' : 'text-pine'">{{ here.stores ? '✓' : '1' }} Connect your store</li>
      <li :class="step === 'supplier' ? 'font-bold' : 'text-soft'">2 Connect a supplier</li>
      <li class="text-soft">3 Open lanes</li>
    </ol>
    <h1>{{ step === 'store' ? 'Where do you sell?' : 'Who sends your goods?' }}</h1>
    <p class="mt-1 mb-4 text-soft">
      {{
        step === 'store'
          ? 'Its listings come in at once. Nothing in the store changes until a lane is open.'
          : 'Its items come in at once; then you say which item fills which SKU.'
      }}
    </p>
    <JoinForm :key="step" :owner="step" @done="emit('done')" />
  </div>
</template>
