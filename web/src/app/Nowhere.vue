<script setup lang="ts">
import Empty from '@/parts/Empty.vue'
</script>

<template>
  <Empty title="There is nothing at this address" message="The link may be old, or a part of it was lost.">
    <RouterLink to="/today" class="text-slate font-semibold underline">Go to Today</RouterLink>
  </Empty>
</template>
