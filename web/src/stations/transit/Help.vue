<script setup lang="ts">
/** What helps a parcel in trouble: the best step first, its message written and there to be looked over. */
import { computed, ref, watch } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { useKeys } from '@/app/keys'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Tag from '@/parts/Tag.vue'
import { ago, money } from '@/parts/format'

const props = defineProps<{ parcel: number; message: Schema<'ParcelOut'> }>()
const chosen = ref('')
const step = computed(() => props.message.steps.find((one) => one.key === chosen.value) ?? props.message.steps[0])
const subject = ref('')
const body = ref('')
watch(
  () => step.value?.key,
  () => {
    subject.value = step.value?.subject ?? ''
    body.value = step.value?.body ?? ''
  },
  { immediate: true },
)
const run = () =>
  step.value &&
  act(() =>
    take(
      api.POST('/api/v1/transit/parcels/{number}/steps', {
        params: { path: { number: props.parcel } },
        body: { key: step.value!.key, subject: subject.value, body: body.value },
      }),
    ),
  )
useKeys('This parcel', [{ key: 'a', message: 'do the best step', run: () => void run() }])
</script>

<template>
  <section class="mt-3 rounded border border-rule p-3" aria-label="What helps">
    <p>
      <Tag :tone="message.asked ? 'plain' : 'waits'">{{ message.trouble }}</Tag>
      <span v-if="message.at_risk" class="ml-2"
        ><b>{{ money(message.at_risk) }}</b> at risk</span
      >
      <span v-if="message.asked" class="ml-2 text-soft">asked {{ ago(message.asked, Date.now()) }}</span>
    </p>
    <div v-if="message.steps.length > 1" class="mt-2 flex flex-wrap gap-1" role="tablist" aria-label="Ways to help">
      <button
        v-for="one in message.steps"
        :key="one.key"
        type="button"
        role="tab"
        :aria-selected="one.key === step?.key"
        class="h-7 rounded border px-2 text-xs font-semibold"
        :class="one.key === step?.key ? 'border-asphalt bg-asphalt text-sheet' : 'border-rule hover:bg-shade'"
        @click="chosen = one.key"
      >
        {{ one.label }}
      </button>
    </div>
    <template v-if="step">
      <p class="mt-2 text-xs text-soft">{{ step.message }}</p>
      <template v-if="step.body">
        <label class="mt-1 block"><span class="label">Subject</span><input v-model="subject" class="field" maxlength="200" /></label>
        <label class="mt-1 block"
          ><span class="label">Message</span><textarea v-model="body" class="field h-32! py-1.5 text-xs" maxlength="5000" /></label
      ></template>
      <Btn class="mt-2" kind="main" hint="A" @click="run">{{ step.label }}</Btn>
    </template>
  </section>
</template>
