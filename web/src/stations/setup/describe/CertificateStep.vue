<script setup lang="ts">
/** What holds of the description: asked of the partner, one thing after another. */
import { computed, reactive } from 'vue'
import { api, take } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Tag from '@/parts/Tag.vue'
import When from '@/parts/When.vue'
import { useDraft } from './draft'

const { number, whole, kept } = useDraft()
const form = reactive({ listing: '', practice: false, item: '' })
const certificate = computed(() => whole.value?.certificate)
async function run() {
  if (!(await kept())) return
  await act(() => take(api.POST('/api/v1/setup/descriptions/{number}/certify', { params: { path: { number } }, body: { ...form } })))
}
const SAID = {
  holds: ['holds', 'good'],
  fails: ['does not hold', 'loss'],
  told: ['to know of', 'info'],
  untried: ['not tried', 'plain'],
} as const
</script>

<template>
  <div class="max-w-4xl">
    <h2>Certificate</h2>
    <p class="mt-0.5 max-w-prose text-soft">
      The partner is asked everything that must be so before orders go through it. Questions change nothing there; writes are tried only
      where you say so, and put back.
    </p>
    <form class="mt-3 flex flex-wrap items-end gap-4" @submit.prevent="run">
      <label v-if="whole?.owner === 'store'"
        ><span class="label">SKU whose quantity may be changed and put back</span
        ><input v-model="form.listing" class="field code w-72!" maxlength="100" placeholder="none: nothing is changed"
      /></label>
      <template v-if="whole?.owner === 'supplier'">
        <label class="flex min-h-8 items-center gap-2"
          ><input v-model="form.practice" type="checkbox" class="accent-pine" />this is their practice side: one unit may be bought and let
          go</label
        >
        <label
          v-if="
            !whole.data ||
            !((whole.data as { operations?: object }).operations && 'offers' in (whole.data as { operations: object }).operations)
          "
          ><span class="label">Number of an item to ask for</span><input v-model="form.item" class="field code w-48!" maxlength="100"
        /></label>
      </template>
      <Btn kind="main" :disabled="!!whole?.faults" @click="run">Try all of it</Btn><button type="submit" class="hidden" />
    </form>
    <p v-if="whole?.faults" class="mt-2 text-soft">There is something to say yet; the open steps at the left name it.</p>
    <template v-if="certificate">
      <p class="mt-4">
        <b>{{ certificate.summary }}</b>
        <span class="text-soft">
          at <span class="code">{{ certificate.address }}</span>, <When :at="certificate.at" clock
        /></span>
        <Tag v-if="!certificate.current" tone="waits" class="ml-2">of how it read before</Tag>
        <a class="ml-3 text-slate underline" :href="`api/v1/setup/descriptions/${number}/certificate`" download>As a file</a>
      </p>
      <table class="mt-2 w-full">
        <tbody>
          <tr v-for="one in certificate.checks" :key="one.code" class="border-t border-rule-2 align-top">
            <td class="py-1.5 pr-3" style="width: 110px">
              <Tag :tone="SAID[one.outcome][1]">{{ SAID[one.outcome][0] }}</Tag>
            </td>
            <td class="py-1.5">
              {{ one.about
              }}<span v-if="one.message" class="block text-xs" :class="one.outcome === 'fails' ? 'text-brick' : 'text-soft'">{{
                one.message
              }}</span>
            </td>
          </tr>
        </tbody>
      </table>
    </template>
  </div>
</template>
