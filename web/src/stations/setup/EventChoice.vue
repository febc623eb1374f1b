<script setup lang="ts">
/** What an address of one's own is told of. */
import type { Schema } from '@/api/client'
import { EVENTS } from './events'

type Group = Schema<'EventGroup'>
const chosen = defineModel<Group[]>({ required: true })
const turn = (one: Group) =>
  (chosen.value = chosen.value.includes(one) ? chosen.value.filter((other) => other !== one) : [...chosen.value, one])
</script>

<template>
  <fieldset>
    <legend class="label">What it is told of</legend>
    <div class="grid grid-cols-2 gap-x-4">
      <label v-for="(words, one) in EVENTS" :key="one" class="flex min-h-7 items-center gap-2"
        ><input type="checkbox" class="size-4 accent-pine" :checked="chosen.includes(one)" @change="turn(one)" />{{ words }}</label
      >
    </div>
  </fieldset>
</template>
