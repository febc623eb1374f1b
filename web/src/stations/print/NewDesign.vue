<script setup lang="ts">
/** Which artwork on what, and by whom: the houses that print such a thing side by side. */
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, take } from '@/api/client'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import Sight from '@/parts/Sight.vue'
import { count, money, percent } from '@/parts/format'
import { useForm } from '@/parts/form'
import { KINDS, artPicture, groundClass, artworkQuery, designsQuery, housesQuery, storesQuery } from './print'

const props = defineProps<{ artwork?: number }>()
const emit = defineEmits<{ close: [] }>()
const router = useRouter()
const { data: art } = useQuery(artworkQuery())
const { data: all } = useQuery(designsQuery())
const { data: stores } = useQuery(storesQuery())
const chosen = ref(props.artwork ?? 0)
const artId = computed(() => chosen.value || art.value?.[0]?.id || 0)
const kinds = computed(() => [...new Set((all.value?.blanks ?? []).map((one) => one.kind))])
const picked = ref('')
const kind = computed(() => picked.value || kinds.value[0] || '')
const at = ref(0)
const store = computed(() => at.value || stores.value?.[0]?.id || 0)
const houses = useQuery(computed(() => housesQuery(kind.value, store.value)))
const pickedBlank = ref(0)
const blank = computed(
  () => (houses.data.value ?? []).find((one) => one.blank === pickedBlank.value)?.blank ?? houses.data.value?.[0]?.blank ?? 0,
)
const { error, busy, send } = useForm()
async function make() {
  const made = await send(() =>
    take(api.POST('/api/v1/printing/designs', { body: { artwork: artId.value, blank: blank.value, name: '' } })),
  )
  if (!made) return
  emit('close')
  void router.push(`/shelf/print/${made.id}`)
}
const share = (part: number, of: number) => (of ? `${count(part)} of ${count(of)}` : 'none yet')
</script>

<template>
  <Modal
    open
    broad
    title="Put artwork on something"
    message="The first house is the main one; others of the same kind can stand in for it."
    @close="emit('close')"
  >
    <div class="flex gap-2 overflow-x-auto pb-2" role="radiogroup" aria-label="Artwork">
      <button
        v-for="one in art ?? []"
        :key="one.id"
        type="button"
        role="radio"
        :aria-checked="one.id === artId"
        class="w-28 shrink-0 rounded border p-1.5 text-left"
        :class="one.id === artId ? 'border-ink bg-shade' : 'border-rule'"
        @click="chosen = one.id"
      >
        <span class="grid h-24 place-items-center rounded" :class="groundClass(one.versions[0])"
          ><img v-if="one.versions[0]" :src="artPicture(one.versions[0].id)" alt="" class="max-h-22 max-w-full"
        /></span>
        <span class="mt-1 block truncate text-xs font-semibold" :title="one.name">{{ one.name }}</span>
      </button>
    </div>
    <div class="mt-3 flex flex-wrap items-center gap-2">
      <label class="flex items-center gap-2"
        ><span class="text-soft">On</span
        ><select class="field w-auto!" :value="kind" aria-label="On what" @change="picked = ($event.target as HTMLSelectElement).value">
          <option v-for="one in kinds" :key="one" :value="one">{{ KINDS[one] ?? one }}</option>
        </select></label
      >
      <label class="flex items-center gap-2"
        ><span class="text-soft">to be sold in</span
        ><select
          class="field w-auto!"
          :value="store"
          aria-label="To be sold in"
          @change="at = Number(($event.target as HTMLSelectElement).value)"
        >
          <option v-for="one in stores ?? []" :key="one.id" :value="one.id">{{ one.name }}</option>
        </select></label
      >
    </div>
    <div class="sheet mt-3 overflow-auto">
      <Sight
        :of="houses"
        :lines="3"
        :empty="!houses.data.value?.length"
        title="Nobody prints such a thing"
        message="Connect a print house in Setup, Stores and suppliers."
      >
        <table class="w-full">
          <thead>
            <tr class="h-8 border-b border-rule text-2xs text-soft">
              <th class="px-2.5">House</th>
              <th class="px-2.5">Blank</th>
              <th class="px-2.5 text-right">Colours</th>
              <th class="px-2.5 text-right">Sizes</th>
              <th class="px-2.5 text-right">Landed cost</th>
              <th class="px-2.5 text-right">Days</th>
              <th class="px-2.5 text-right">Refused</th>
              <th class="px-2.5 text-right">Late</th>
              <th class="px-2.5 text-right">Refunded</th>
            </tr>
          </thead>
          <tbody>
            <tr
              v-for="one in houses.data.value"
              :key="one.blank"
              class="h-9 cursor-pointer border-b border-rule-2"
              :class="one.blank === blank ? 'bg-shade' : ''"
              @click="pickedBlank = one.blank"
            >
              <th scope="row" class="px-2.5">
                <label class="flex items-center gap-2"
                  ><input v-model="pickedBlank" type="radio" name="blank" :value="one.blank" :checked="one.blank === blank" />{{
                    one.house
                  }}</label
                >
              </th>
              <td class="px-2.5">{{ one.name }}</td>
              <td class="px-2.5 text-right">{{ one.colours }}</td>
              <td class="px-2.5 text-right">{{ one.sizes }}</td>
              <td class="px-2.5 text-right">
                {{ money(one.landed)
                }}<template v-if="one.dearest && one.dearest.amount !== one.landed?.amount"> to {{ money(one.dearest) }}</template>
              </td>
              <td class="px-2.5 text-right">{{ one.days_low }} to {{ one.days_high }}</td>
              <td class="px-2.5 text-right">{{ share(one.refused, one.answered) }}</td>
              <td class="px-2.5 text-right">{{ one.late === null ? 'none yet' : percent(one.late / 10_000, 0) }}</td>
              <td class="px-2.5 text-right">{{ share(one.refunded, one.orders) }}</td>
            </tr>
          </tbody>
        </table>
      </Sight>
    </div>
    <p v-if="error" role="alert" class="mt-3 rounded bg-brick-wash px-3 py-2 text-brick">{{ error }}</p>
    <template #acts
      ><Btn @click="emit('close')">Cancel</Btn><Btn kind="main" :disabled="!artId || !blank || busy" @click="make">Place it</Btn></template
    >
  </Modal>
</template>
