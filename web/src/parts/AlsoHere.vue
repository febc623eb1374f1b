<script setup lang="ts">
/** Who else looks at the same thing now, so that nobody does it twice. */
defineProps<{ names?: string[] }>()
</script>

<template>
  <p v-if="names?.length" role="status" class="rounded bg-slate-wash px-2.5 py-1 text-slate">
    {{ names.join(' and ') }} {{ names.length === 1 ? 'looks' : 'look' }} at this too, at this moment.
  </p>
</template>
