<script setup lang="ts">
/** What each store's titles may be: length, words it does not take, the order of their parts. */
import { computed, reactive, ref, watch } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'

const props = defineProps<{ stores: Schema<'ShelfStore'>[] }>()
const emit = defineEmits<{ close: [] }>()
const at = ref(props.stores[0]?.id ?? 0)
const store = computed(() => props.stores.find((one) => one.id === at.value))
const form = reactive({ most: '', banned: '', order: '', maker: false })
watch(
  store,
  (now) =>
    now &&
    Object.assign(form, {
      most: String(now.title_most),
      banned: now.banned_words.join(', '),
      order: now.title_order.join(','),
      maker: now.tell_maker,
    }),
  { immediate: true },
)
const ORDERS = [
  ['what,options,brand', 'what it is, options, maker'],
  ['brand,what,options', 'maker, what it is, options'],
  ['what,brand,options', 'what it is, maker, options'],
  ['options,what,brand', 'options, what it is, maker'],
]
const keep = () =>
  act(() =>
    take(
      api.PUT('/api/v1/shelf/stores/{number}/words', {
        params: { path: { number: at.value } },
        body: {
          title_most: Number(form.most) || null,
          banned_words: form.banned
            .split(/[,\n]/)
            .map((word) => word.trim())
            .filter(Boolean),
          title_order: form.order.split(','),
          tell_maker: form.maker,
        },
      }),
    ),
  ).then((done) => done && emit('close'))
</script>

<template>
  <Modal
    open
    title="Listing rules"
    message="A listing that says more or otherwise is not published; you are told which and why."
    @close="emit('close')"
  >
    <label class="block"
      ><span class="label">Store</span
      ><select v-model="at" class="field">
        <option v-for="one in stores" :key="one.id" :value="one.id">{{ one.name }}</option>
      </select></label
    >
    <label class="mt-3 block"
      ><span class="label">Longest title, letters</span><input v-model="form.most" class="field w-28!" inputmode="numeric" maxlength="3"
    /></label>
    <label class="mt-3 block"
      ><span class="label">Words it does not take, separated by commas</span
      ><textarea v-model="form.banned" class="field h-20! py-1.5" maxlength="4000" />
    </label>
    <label class="mt-3 block"
      ><span class="label">Suggested titles say first</span
      ><select v-model="form.order" class="field">
        <option v-for="[value, label] in ORDERS" :key="value" :value="value">{{ label }}</option>
      </select></label
    >
    <label class="mt-3 flex items-center gap-2"
      ><input v-model="form.maker" type="checkbox" />Buyers are told who makes what is made for their order</label
    >
    <template #acts><Btn @click="emit('close')">Cancel</Btn><Btn kind="main" @click="keep">Save</Btn></template>
  </Modal>
</template>
