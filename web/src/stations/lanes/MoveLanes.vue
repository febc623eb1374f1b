<script setup lang="ts">
/** A supplier's lanes moved to another supplier: what fits each SKU there, looked at first. */
import { useMutation, useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act, wordsOf } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import LikenessBar from '@/parts/LikenessBar.vue'
import Modal from '@/parts/Modal.vue'
import { amountOf, money, number, plural } from '@/parts/format'
import { home } from '@/parts/home'
import { facetsQuery } from '@/stations/source/queries'

type Row = Schema<'MoveOut'>
const props = defineProps<{ lanes: number[]; source: number | null }>()
const emit = defineEmits<{ close: [] }>()
const { data: facets } = useQuery(facetsQuery())
const form = reactive({ source: props.source ?? 0, target: 0, keep: true })
const picked = ref(new Set<number>())
const look = useMutation({
  mutationFn: () =>
    take(api.POST('/api/v1/lanes/move/preview', { body: { source: form.source, target: form.target, lanes: props.lanes } })),
  onSuccess: (rows: Row[]) =>
    (picked.value = new Set(rows.filter((one) => one.decision === 'open' && one.would_land).map((one) => one.sku_id))),
})
const rows = computed(() => look.data.value ?? [])
const able = computed(() => rows.value.filter((one) => one.to_id))
const both = computed(() => rows.value.filter((one) => picked.value.has(one.sku_id) && one.lands && one.would_land))
const saved = computed(() => both.value.reduce((sum, one) => sum + number(one.lands) - number(one.would_land), 0))
const currency = computed(() => rows.value.find((one) => one.lands)?.lands?.currency ?? home.value)
const mean = computed(() => (both.value.length ? saved.value / both.value.length : 0))
function toggle(one: Row) {
  const next = new Set(picked.value)
  if (!next.delete(one.sku_id)) next.add(one.sku_id)
  picked.value = next
}
async function move() {
  const picks = able.value.filter((one) => picked.value.has(one.sku_id)).map((one): [number, number] => [one.sku_id, one.to_id!])
  const body = { source: form.source, picks, keep_old: form.keep }
  if (await act(() => take(api.POST('/api/v1/lanes/move', { body })))) emit('close')
}
</script>

<template>
  <Modal
    :open="true"
    title="Move lanes to another supplier"
    message="The likest item there is found for each SKU. What is sure stands chosen; nothing changes until you say so, and it is undone as one."
    broad
    @close="emit('close')"
  >
    <div class="flex flex-wrap items-end gap-3">
      <label class="block"
        ><span class="block text-soft">From</span
        ><select v-model="form.source" class="field mt-1 w-52!" :disabled="!!source">
          <option :value="0" disabled>Choose</option>
          <option v-for="one in facets?.suppliers ?? []" :key="one.id" :value="one.id">{{ one.name }}</option>
        </select></label
      ><label class="block"
        ><span class="block text-soft">To</span
        ><select v-model="form.target" class="field mt-1 w-52!">
          <option :value="0" disabled>Choose</option>
          <option v-for="one in (facets?.suppliers ?? []).filter((by) => by.id !== form.source)" :key="one.id" :value="one.id">
            {{ one.name }}
          </option>
        </select></label
      ><Btn :disabled="!form.source || !form.target || look.isPending.value" @click="look.mutate()">{{
        look.isPending.value ? 'Comparing…' : lanes.length ? `Look at ${plural(lanes.length, 'lane')}` : 'Look at all its main lanes'
      }}</Btn>
    </div>
    <p v-if="look.error.value" role="alert" class="mt-3 text-brick">{{ wordsOf(look.error.value) }}</p>
    <template v-if="look.data.value">
      <p class="mt-4 text-soft">
        <b class="text-ink">{{ picked.size }}</b> of {{ rows.length }} chosen, {{ rows.length - able.length }} with nothing like it
        there<template v-if="picked.size"
          >; a unit would land at <b :class="mean > 0 ? 'text-brick' : 'text-pine'">{{ amountOf(mean, currency, true) }}</b> on
          average</template
        >
      </p>
      <div class="sheet mt-2 max-h-[46vh] overflow-auto">
        <table class="w-full table-fixed">
          <colgroup>
            <col style="width: 36px" />
            <col />
            <col style="width: 34%" />
            <col style="width: 84px" />
            <col style="width: 84px" />
            <col style="width: 92px" />
          </colgroup>
          <thead class="sticky top-0 bg-sheet">
            <tr class="h-8 border-b border-rule text-2xs text-soft">
              <th><span class="sr-only">Chosen</span></th>
              <th class="px-2">SKU and item now</th>
              <th class="px-2">The likest there</th>
              <th class="px-2 text-right">Lands</th>
              <th class="px-2 text-right">Would land</th>
              <th class="px-3 text-right">Likeness</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="one in rows" :key="one.lane" class="h-11 border-b border-rule-2">
              <td class="pl-3">
                <input
                  type="checkbox"
                  class="size-3.5 accent-pine align-middle"
                  :disabled="!one.to_id"
                  :checked="picked.has(one.sku_id)"
                  :aria-label="`Move ${one.sku}`"
                  @click="toggle(one)"
                />
              </td>
              <td class="px-2">
                <span class="block truncate font-semibold" :title="one.title">{{ one.title }}</span><span class="cell-2 block truncate"
                  ><span class="code">{{ one.sku }}</span> by {{ one.item }}</span
                >
              </td>
              <td class="px-2">
                <template v-if="one.to_id"
                  ><span class="block truncate" :title="one.to_title">{{ one.to_title }}</span
                  ><span class="cell-2 block truncate"
                    ><span class="code">{{ one.to }}</span
                    ><span v-if="one.has">, its spare already</span
                    ><span v-if="one.differs.length" class="text-brick">, {{ one.differs[0] }}</span></span
                  ></template
                ><span v-else class="text-soft">nothing like it</span>
              </td>
              <td class="px-2 text-right">{{ money(one.lands) }}</td>
              <td
                class="px-2 text-right font-semibold"
                :class="one.lands && one.would_land && number(one.would_land) > number(one.lands) ? 'text-brick' : ''"
                :title="one.reason_not"
              >
                {{ one.to_id ? money(one.would_land) : '–' }}
              </td>
              <td class="px-3 text-right"><LikenessBar v-if="one.to_id" :score="one.score" :decision="one.decision" /></td>
            </tr>
          </tbody>
        </table>
      </div>
      <label class="mt-3 flex items-center gap-2"
        ><input v-model="form.keep" type="checkbox" class="size-3.5 accent-pine" /> Keep the old ones as spares</label
      >
    </template>
    <template #acts
      ><Btn @click="emit('close')">Close</Btn
      ><Btn v-if="look.data.value" kind="main" :disabled="!picked.size" @click="move">Move {{ plural(picked.size, 'lane') }}</Btn></template
    >
  </Modal>
</template>
