<script setup lang="ts">
/** Open a case for an order line: what is wrong, how many, and what the supplier is asked for. */
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, take, type Schema } from '@/api/client'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import Sight from '@/parts/Sight.vue'
import { dayOf, inField, money, percent, plainOf, plural } from '@/parts/format'
import { useForm } from '@/parts/form'
import { REASONS, canClaimQuery } from './cases'

/** mail: the buyer's mail that it begins with; words: what they wrote. */
const props = defineProps<{ line: number; reason?: string; mail?: number; words?: string }>()
const emit = defineEmits<{ close: [] }>()
const router = useRouter()
const asked = useQuery(canClaimQuery(props.line))
const known = asked.data
const reason = ref(props.reason || 'lost')
const units = ref<number | null>(null)
const wish = ref<'money' | 'again'>('money')
const amount = ref('')
const words = ref(props.words ?? '')
const { error, wrong, busy, send } = useForm()
const full = computed(() => known.value?.paid)
async function save() {
  const made = await send(() =>
    take(
      api.POST('/api/v1/claims', {
        body: {
          line: props.line,
          reason: reason.value as Schema<'ClaimReason'>,
          units: units.value || null,
          wish: wish.value,
          amount:
            wish.value === 'money' && amount.value.trim() && full.value
              ? { amount: plainOf(amount.value), currency: full.value.currency }
              : null,
          words: words.value,
          mail: props.mail ?? null,
        },
      }),
    ),
  )
  if (!made) return
  emit('close')
  void router.push(`/transit?show=cases&case=${made.id}`)
}
</script>

<template>
  <Modal
    open
    :title="known ? `Open a case: ${known.title}` : 'Open a case'"
    message="Nothing goes out yet: you see each way with what it is expected to cost, then ask the supplier."
    @close="emit('close')"
  >
    <Sight :of="asked" :lines="4">
      <p v-if="known!.why" class="rounded bg-amber-wash px-3 py-2 text-amber-ink">{{ known!.why }}</p>
      <template v-else>
        <p class="mb-3 text-soft">
          Bought from {{ known!.supplier }} on {{ dayOf(known!.bought_on!)
          }}<template v-if="known!.until && !known!.over">, which takes claims until {{ dayOf(known!.until) }}</template
          >.
          <template v-if="known!.parcel"
            ><span class="code">{{ known!.parcel }}</span
            >: {{ known!.last_word }}<template v-if="known!.days_late">, {{ plural(known!.days_late, 'day') }} past the promise</template>.
          </template>
          {{
            known!.answers
              ? `By ${plural(known!.answers, 'answer')} to claims, one is paid with a chance of ${percent(known!.chance * 100, 0)}.`
              : 'It has answered no claim yet.'
          }}
        </p>
        <p v-if="known!.over" class="mb-3 rounded bg-amber-wash px-3 py-2 text-amber-ink">
          It takes claims until {{ dayOf(known!.until!) }}, which is over: it is likely to refuse.
        </p>
        <label class="block"
          ><span class="label">What is wrong</span
          ><select v-model="reason" class="field">
            <option v-for="(label, key) in REASONS" :key="key" :value="key">{{ label }}</option>
          </select></label
        >
        <div class="mt-3 grid grid-cols-2 gap-3">
          <label class="block"
            ><span class="label">Units, of {{ known!.units }}</span
            ><input
              v-model.number="units"
              type="number"
              min="1"
              :max="known!.units"
              :placeholder="String(known!.units)"
              class="field text-right"
              :aria-invalid="!!wrong.units"
          /></label>
          <label class="block"
            ><span class="label">Ask {{ known!.supplier }} for</span
            ><select v-model="wish" class="field">
              <option value="money">money back</option>
              <option value="again">the same once more</option>
            </select></label
          >
        </div>
        <label v-if="wish === 'money'" class="mt-3 block"
          ><span class="label">How much, {{ full?.currency }}; it cost {{ money(full) }} with its sending</span
          ><input
            v-model="amount"
            class="field text-right"
            inputmode="decimal"
            :placeholder="inField(full?.amount)"
            :aria-invalid="!!wrong.amount"
        /></label>
        <label class="mt-3 block"
          ><span class="label">What happened</span><textarea v-model="words" class="field h-20! py-1.5" maxlength="2000" /></label
      ></template>
    </Sight>
    <p v-if="error" role="alert" class="mt-3 rounded bg-brick-wash px-3 py-2 text-brick">{{ error }}</p>
    <template #acts
      ><Btn @click="emit('close')">Cancel</Btn
      ><Btn kind="main" :disabled="busy || !known || !!known.why" @click="save">Open the case</Btn></template
    >
  </Modal>
</template>
