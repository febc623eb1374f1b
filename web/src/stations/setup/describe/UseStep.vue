<script setup lang="ts">
/** Connect a partner by the description, or speak to one that is connected by how it reads now. */
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import When from '@/parts/When.vue'
import { plural } from '@/parts/format'
import { useDraft } from './draft'
import { differencesQuery } from './queries'

const emit = defineEmits<{ file: [] }>()
const { number, whole, kept } = useDraft()
const router = useRouter()
const newest = computed(() => whole.value?.kept[0])
const changing = ref<Schema<'UseOut'> | null>(null)
const asked = useQuery(computed(() => ({ ...differencesQuery(number, changing.value?.version ?? 0), enabled: !!changing.value })))
async function compare(one: Schema<'UseOut'>) {
  if (!(await kept())) return
  changing.value = one
  void asked.refetch()
}
async function speak() {
  const one = changing.value!
  const body = { owner: one.owner as Schema<'OwnerOut'>['owner'], id: one.id }
  if (await act(() => take(api.POST('/api/v1/setup/descriptions/{number}/switch-on', { params: { path: { number } }, body }))))
    changing.value = null
}
const cannot = computed(() => (whole.value?.certificate?.checks ?? []).filter((one) => one.outcome === 'told'))
</script>

<template>
  <div v-if="whole" class="max-w-3xl">
    <h2>Use it</h2>
    <p v-if="whole.faults" class="mt-1 text-soft">
      {{ plural(whole.faults, 'thing') }} must be said before it can be used.
      <button type="button" class="text-slate underline" @click="emit('file')">See all of them</button>
    </p>
    <template v-else>
      <p class="mt-1 max-w-prose text-soft">
        A partner is connected by it like any other: its key is tried first. From then on it is spoken to by this version; what you change
        here afterwards counts once you switch it on.
      </p>
      <p v-for="one in cannot" :key="one.code" class="mt-2 rounded bg-slate-wash px-3 py-2">{{ one.about }}: {{ one.message }}.</p>
      <p v-if="!whole.certificate?.current" class="mt-2 rounded bg-amber-wash px-3 py-2 text-amber-ink">
        It was not tried as it reads now; what holds of it is not known.
      </p>
      <Btn kind="main" class="mt-3" @click="router.push(`/setup/partners?connect=${whole.owner}`)"
        >Connect a {{ whole.owner === 'rates' ? 'bank' : whole.owner }}</Btn
      >
    </template>
    <template v-if="whole.uses.length">
      <h3 class="label mt-5">Spoken to by it</h3>
      <div v-for="one in whole.uses" :key="`${one.owner}${one.id}`" class="mt-1 flex items-center gap-3">
        <b>{{ one.name }}</b> <span class="text-soft">version {{ one.version }}</span>
        <Btn small :disabled="!!whole.faults" @click="compare(one)">Switch to how it reads now</Btn>
      </div>
    </template>
    <template v-if="newest">
      <h3 class="label mt-5">Versions</h3>
      <p v-for="one in whole.kept" :key="one.id" class="mt-1">
        <b>{{ one.number }}</b> <span class="text-soft">of <When :at="one.at" clock />, {{ one.summary }}</span>
      </p>
    </template>
    <Modal
      v-if="changing"
      open
      wide
      :title="`Speak to ${changing.name} by how it reads now?`"
      message="The version before comes back with Undo."
      @close="changing = null"
    >
      <p v-if="asked.data.value && !asked.data.value.length" class="text-soft">
        Nothing reads differently from version {{ changing.version }}.
      </p>
      <table v-else-if="asked.data.value" class="w-full table-fixed">
        <thead>
          <tr class="h-7 text-2xs text-soft">
            <th class="text-left">Place</th>
            <th class="text-left">Version {{ changing.version }}</th>
            <th class="text-left">Now</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in asked.data.value" :key="one.place" class="border-t border-rule-2 align-top">
            <td class="code py-1 pr-2 break-all">{{ one.place }}</td>
            <td class="code py-1 pr-2 break-all text-soft">{{ one.before || '–' }}</td>
            <td class="code py-1 break-all">{{ one.after || '–' }}</td>
          </tr>
        </tbody>
      </table>
      <template #acts
        ><Btn @click="changing = null">Cancel</Btn
        ><Btn kind="main" :disabled="!asked.data.value?.length" @click="speak">Switch on</Btn></template
      >
    </Modal>
  </div>
</template>
