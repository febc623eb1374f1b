<script setup lang="ts">
/** The first steps of a house: what is done, what is next. It stays until all is done or left out by a person's word. */
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'

const props = defineProps<{ steps: Schema<'FirstStepOut'>[] }>()
const router = useRouter()
const all = ref(false)
const next = computed(() => props.steps.find((one) => one.state === 'open'))
const done = computed(() => props.steps.filter((one) => one.state === 'done').length)
const left = computed(() => props.steps.filter((one) => one.state === 'left').length)
const shown = computed(() => (all.value ? props.steps : props.steps.filter((one) => one.state === 'open' || one.state === 'later')))
const leave = (key: string, out: boolean) => void act(() => take(api.POST('/api/v1/house/steps', { body: { key, left: out } })))
const MARK: Record<string, string> = { done: '✓', left: '–', open: '', later: '' }
const SAID: Record<string, string> = { done: 'done', left: 'not needed', open: 'to do', later: 'later' }
</script>

<template>
  <section class="sheet mb-4" aria-label="First steps">
    <header class="flex items-baseline gap-3 border-b border-rule px-3.5 py-2.5">
      <h2>First steps</h2>
      <p class="text-soft">{{ done }} of {{ steps.length - left }} done. Nothing goes out to a store before you turn it on.</p>
      <Btn small kind="link" class="ml-auto" @click="all = !all">{{ all ? 'Show what is open' : 'Show all' }}</Btn>
    </header>
    <ol>
      <li
        v-for="one in shown"
        :key="one.key"
        class="grid min-h-10 grid-cols-[20px_minmax(0,220px)_minmax(0,1fr)_auto] items-center gap-3 border-b border-rule-2 px-3.5 py-1 last:border-0"
        :class="one.key === next?.key ? 'bg-shade' : ''"
      >
        <span
          class="grid size-4.5 place-items-center rounded-full border text-2xs font-bold"
          :class="one.state === 'done' ? 'border-pine bg-pine text-sheet' : 'border-faint text-soft'"
          role="img"
          :aria-label="SAID[one.state]"
          >{{ MARK[one.state] }}</span
        >
        <b class="truncate" :class="one.state === 'open' ? '' : 'font-normal text-soft'" :title="one.name">{{ one.name }}</b>
        <span class="truncate text-soft" :title="one.message">{{ one.message }}</span>
        <span class="flex gap-1">
          <Btn v-if="one.leave && one.state === 'open'" small kind="link" @click="leave(one.key, true)">Not needed</Btn
          ><Btn v-if="one.state === 'left'" small kind="link" @click="leave(one.key, false)">Take it up</Btn
          ><Btn v-if="one.state === 'open'" small :kind="one.key === next?.key ? 'main' : 'plain'" @click="router.push(one.go)">{{
            one.do
          }}</Btn
          ><span v-else-if="one.state === 'later'" class="text-xs text-soft">comes after the others</span></span
        >
      </li>
    </ol>
  </section>
</template>
