<script setup lang="ts">
/** A time zone, typed or chosen. */
const zone = defineModel<string>({ required: true })
const zones = Intl.supportedValuesOf('timeZone')
</script>

<template>
  <input v-model="zone" class="field" list="zones" maxlength="60" required /><datalist id="zones">
    <option v-for="one in zones" :key="one" :value="one" />
  </datalist>
</template>
