<script setup lang="ts">
/** A count that is not what was sent, with the ways to settle it. */
import Btn from '@/parts/Btn.vue'
import Tag from '@/parts/Tag.vue'
import { money } from '@/parts/format'
import { countAgain, settle, type Load, type LoadLine } from './depot'

defineProps<{ load: Load; line: LoadLine }>()
</script>

<template>
  <article class="sheet p-3.5">
    <h2>
      Count to settle <Tag v-if="line.lost && Number(line.lost.amount)" tone="waits">{{ money(line.lost) }}</Tag>
    </h2>
    <p class="mt-1 text-soft">{{ load.reference }} · {{ line.title }}</p>
    <p class="mt-0.5">{{ line.difference }}</p>
    <p class="mt-2.5 flex flex-wrap gap-2">
      <Btn v-if="line.lost && Number(line.lost.amount)" small @click="settle(line, 'claim')"
        >Claim it from {{ load.sender || load.depot }}</Btn
      >
      <Btn small @click="settle(line, 'written_off')">{{ line.lost && Number(line.lost.amount) ? 'Write off' : 'Right so' }}</Btn>
      <Btn v-if="load.depot_calls" small @click="countAgain(load)">Ask to count again</Btn>
    </p>
  </article>
</template>
