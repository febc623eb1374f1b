<script setup lang="ts">
/** What suppliers were asked to find: the words to send, their answer beside ours, accepted or declined. */
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { api, take, type Schema } from '@/api/client'
import { act, tell, wordsOf } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Empty from '@/parts/Empty.vue'
import Modal from '@/parts/Modal.vue'
import Tag from '@/parts/Tag.vue'
import { money, plainOf } from '@/parts/format'
import Sight from '@/parts/Sight.vue'
import { requestsQuery } from './queries'

const props = defineProps<{ suppliers: Schema<'SupplierOut'>[] }>()
const requests = useQuery(requestsQuery())
const { data } = requests
const route = useRoute()
const asked = typeof route.query.ask === 'string' ? route.query.ask : ''
const asking = ref(!!asked)
const form = reactive({ supplier: props.suppliers[0]?.id ?? 0, sku: asked, target: '', note: '', mail: props.suppliers[0]?.mail ?? '' })
const chosen = computed(() => props.suppliers.find((one) => one.id === form.supplier))
watch(chosen, (now) => (form.mail = now?.mail ?? ''))
const wrong = ref('')
const numbers = reactive<Record<number, string>>({})
async function ask() {
  wrong.value = ''
  const amount = plainOf(form.target)
  try {
    const done = await take(
      api.POST('/api/v1/source/requests', {
        body: {
          supplier: form.supplier,
          sku: form.sku.trim(),
          note: form.note,
          mail: form.mail.trim(),
          target: amount ? { amount, currency: chosen.value!.currency } : null,
        },
      }),
    )
    asking.value = false
    Object.assign(form, { sku: '', target: '', note: '' })
    void act(() => Promise.resolve(done))
  } catch (problem) {
    wrong.value = wordsOf(problem)
  }
}
const path = (one: Schema<'RequestOut'>) => ({ path: { number: one.id } })
const answer = (one: Schema<'RequestOut'>) =>
  act(() =>
    take(
      api.POST('/api/v1/source/requests/{number}/answer', {
        params: path(one),
        body: { version: one.version, item: (numbers[one.id] ?? '').trim() },
      }),
    ),
  )
const accept = (one: Schema<'RequestOut'>) =>
  act(() => take(api.POST('/api/v1/source/requests/{number}/accept', { params: path(one), body: { version: one.version } })))
const decline = (one: Schema<'RequestOut'>) =>
  act(() => take(api.POST('/api/v1/source/requests/{number}/decline', { params: path(one), body: { version: one.version } })))
async function copy(one: Schema<'RequestOut'>) {
  await navigator.clipboard?.writeText(one.words).catch(() => undefined)
  tell('The words are copied; send them to the supplier')
}
const MAILED: Record<string, string> = { done: 'mailed', dead: 'its mail could not be sent: see the outbox in Set-up' }
const TONE: Record<string, 'info' | 'waits' | 'good' | 'plain'> = { asked: 'info', answered: 'waits', accepted: 'good', declined: 'plain' }
</script>

<template>
  <div class="min-h-0 max-w-5xl flex-1 overflow-auto">
    <div class="mb-3"><Btn kind="main" @click="asking = true">Ask a supplier to find something</Btn></div>
    <Sight :of="requests" />
    <Empty
      v-if="data && !data.length"
      title="No supplier was asked for anything"
      message="When nobody lists what you sell, ask a supplier for it; their answer is shown beside your listing before you take it."
    />
    <article v-for="one in data ?? []" :key="one.id" class="sheet mb-3 p-4">
      <div class="flex items-start gap-3">
        <img
          v-if="one.picture"
          :src="`api/v1/shelf/pictures/${one.picture}`"
          alt="What is wanted"
          class="size-14 shrink-0 rounded border border-rule object-contain"
        />
        <div class="min-w-0">
          <h2 class="truncate">{{ one.title }}</h2>
          <p class="text-soft">
            <span class="code">{{ one.sku }}</span> asked of {{ one.supplier
            }}<template v-if="one.target">, at most {{ money(one.target) }}</template
            ><template v-if="one.mailed">, {{ MAILED[one.mailed] ?? 'its mail is on its way' }}</template>
          </p>
        </div>
        <Tag :tone="TONE[one.state]" class="ml-auto">{{ one.state }}</Tag>
      </div>
      <div v-if="one.item" class="mt-2 grid grid-cols-[70px_1fr] gap-y-1">
        <span class="text-soft">Ours</span><span>{{ one.title }}</span> <span class="text-soft">Theirs</span
        ><span
          >{{ one.item_title }} <span class="code text-soft">{{ one.item }}</span>, likeness {{ one.likeness }}</span
        >
        <span class="text-soft">Agrees</span><span class="text-pine">{{ one.agrees.join(', ') || '–' }}</span>
        <span class="text-soft">Differs</span
        ><span :class="one.differs.length ? 'text-brick' : ''">{{ one.differs.join(', ') || '–' }}</span>
      </div>
      <div v-if="one.state === 'asked' || one.state === 'answered'" class="mt-3 flex items-center gap-2">
        <Btn small @click="copy(one)">Copy the words</Btn
        ><label class="ml-2 flex items-center gap-2 text-soft"
          >They name<input
            v-model="numbers[one.id]"
            class="field code w-40!"
            maxlength="100"
            placeholder="its number"
            @keydown.enter="answer(one)" /></label
        ><Btn small :disabled="!numbers[one.id]" @click="answer(one)">Set beside ours</Btn><span class="ml-auto" /><Btn
          small
          @click="decline(one)"
          >Decline</Btn
        ><Btn v-if="one.state === 'answered'" small kind="main" @click="accept(one)">Accept, open the lane</Btn>
      </div>
    </article>
    <Modal :open="asking" title="Ask a supplier to find something" @close="asking = false">
      <label class="block"
        ><span class="label">Supplier</span
        ><select v-model="form.supplier" class="field">
          <option v-for="one in suppliers" :key="one.id" :value="one.id">{{ one.name }}</option>
        </select></label
      >
      <label class="mt-3 block"><span class="label">Our SKU</span><input v-model="form.sku" class="field code" maxlength="100" /></label>
      <label class="mt-3 block"
        ><span class="label">It should cost at most, {{ chosen?.currency }}</span
        ><input v-model="form.target" class="field" inputmode="decimal" maxlength="20"
      /></label>
      <label class="mt-3 block"
        ><span class="label">Their mail address; empty to send the words yourself</span
        ><input v-model="form.mail" class="field" type="email" maxlength="200"
      /></label>
      <label class="mt-3 block"
        ><span class="label">Anything else</span><textarea v-model="form.note" class="field h-20! py-1.5" maxlength="1000" />
      </label>
      <p v-if="wrong" role="alert" class="mt-3 text-brick">{{ wrong }}</p>
      <template #acts><Btn @click="asking = false">Cancel</Btn><Btn kind="main" @click="ask">Ask</Btn></template>
    </Modal>
  </div>
</template>
