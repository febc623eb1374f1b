<script setup lang="ts">
/** A title with what agrees and what differs drawn in it: underlined in pine = both say it, on amber = the other says otherwise or nothing. */
import { computed } from 'vue'
import { pieces, type Mark } from './marks'

const props = defineProps<{ title: string; marks: readonly Mark[] }>()
const STYLE: Record<string, string> = {
  same: 'underline decoration-pine decoration-2 underline-offset-2',
  differs: 'rounded-sm bg-brick-wash px-0.5 text-brick',
  only: 'rounded-sm bg-rule-2 px-0.5',
}
const SAID: Record<string, string> = { differs: 'differs', only: 'only here' }
const cut = computed(() => pieces(props.title, props.marks))
</script>

<template>
  <span :title="title"
    ><template v-for="(one, n) in cut" :key="n"
      ><span v-if="one.kind" :class="STYLE[one.kind]" :title="SAID[one.kind]">{{ one.text }}</span
      ><template v-else>{{ one.text }}</template></template
    ></span
  >
</template>
