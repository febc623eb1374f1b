<script setup lang="ts">
/** How we order: what goes with every purchase order, and each store's word to the receiver. */
import { useQuery } from '@tanstack/vue-query'
import { reactive, ref } from 'vue'
import { api, take, upload, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import { useForm } from '@/parts/form'
import Modal from '@/parts/Modal.vue'
import SheetIn from '@/parts/SheetIn.vue'
import Sight from '@/parts/Sight.vue'
import MailIn from './MailIn.vue'
import { orderingQuery } from './queries'

type Supplier = Schema<'SupplierOrdering'>
type Store = Schema<'StoreOrdering'>
const asked = useQuery(orderingQuery())
const { data } = asked
const PHONES: Record<string, string> = { buyer: "the buyer's", store: "the store's own", none: 'none' }
const FORMS: Record<string, string> = { sheet: 'a sheet', ubl: 'UBL documents' }
const ROADS: Record<string, string> = { hand: 'taken out by hand', mail: 'sent by mail' }
const how = (one: Supplier) =>
  one.called
    ? one.kind === 'folder'
      ? 'as sheets in its folder'
      : 'by its interface'
    : `${FORMS[one.order_form]}, ${ROADS[one.order_road]}${one.order_road === 'mail' ? ` to ${one.mail}` : ''}`
const supplier = ref<Supplier | null>(null)
const store = ref<Store | null>(null)
const form = reactive({ parcel_note: '', phone_rule: '', order_form: '', order_road: '', mail: '', greeting: '', phone: '' })
const { error, wrong, clear, sendAct } = useForm()
function edit(one: Supplier | null, shop: Store | null) {
  Object.assign(form, one ?? {}, shop ?? {})
  clear()
  supplier.value = one
  store.value = shop
}
const shapes = reactive<Record<number, string>>({})
const pages = reactive<Record<number, string>>({})
const changed = (one: Schema<'CarrierShape'>) => (shapes[one.id] ?? one.shape) !== one.shape || (pages[one.id] ?? one.page) !== one.page
const keepShape = (one: Schema<'CarrierShape'>) =>
  act(() =>
    take(
      api.POST('/api/v1/ordering/carriers/{number}', {
        params: { path: { number: one.id } },
        body: { version: one.version, shape: shapes[one.id] ?? one.shape, page: pages[one.id] ?? one.page },
      }),
    ),
  )
const bring = ref(false)
/** An answer or a dispatch advice as a UBL document. */
async function document(event: Event) {
  const input = event.target as HTMLInputElement
  const file = input.files?.[0]
  if (!file) return
  await act(() => upload<Schema<'Done'>>('/api/v1/ordering/documents', file))
  input.value = ''
}
const keep = () =>
  sendAct(
    () =>
      take(
        supplier.value
          ? api.POST('/api/v1/ordering/suppliers/{number}', {
              params: { path: { number: supplier.value.id } },
              body: {
                version: supplier.value.version,
                parcel_note: form.parcel_note,
                phone_rule: form.phone_rule,
                order_form: form.order_form,
                order_road: form.order_road,
                mail: form.mail,
              },
            })
          : api.POST('/api/v1/ordering/stores/{number}', {
              params: { path: { number: store.value!.id } },
              body: { version: store.value!.version, greeting: form.greeting, phone: form.phone },
            }),
      ),
    () => edit(null, null),
  )
</script>

<template>
  <div>
    <div class="mb-3 flex max-w-6xl items-end gap-2">
      <div class="mr-auto">
        <h1>How we order</h1>
        <p class="text-soft">What goes with every purchase order, and what the receiver finds in the parcel. No price is ever on it.</p>
      </div>
      <Btn @click="bring = true">Import answers</Btn
      ><label class="cursor-pointer rounded border border-rule bg-sheet px-3 py-1.5 font-semibold focus-within:outline-2 hover:bg-shade"
        >Import a document<input type="file" class="sr-only" accept=".xml" @change="document"
      /></label>
    </div>
    <SheetIn :open="bring" sheet="answers" title="Import suppliers' answers" @close="bring = false" />
    <Sight :of="asked" :lines="6" />
    <section class="sheet mb-4 max-w-6xl p-4">
      <h2 class="mb-1">Suppliers</h2>
      <table class="w-full table-fixed">
        <thead>
          <tr class="h-7 text-2xs text-soft">
            <th style="width: 22%">Supplier</th>
            <th class="px-2" style="width: 26%">Orders go</th>
            <th class="px-2">Note to the packer</th>
            <th class="px-2" style="width: 13%">Phone told</th>
            <th style="width: 80px" />
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in data?.suppliers" :key="one.id" class="h-10 border-t border-rule-2">
            <td class="truncate font-semibold" :title="one.name">{{ one.name }}</td>
            <td class="truncate px-2" :title="how(one)">{{ how(one) }}</td>
            <td class="truncate px-2 text-soft" :title="one.parcel_note">{{ one.parcel_note || 'none' }}</td>
            <td class="px-2">{{ PHONES[one.phone_rule] }}</td>
            <td class="text-right"><Btn small @click="edit(one, null)">Change</Btn></td>
          </tr>
        </tbody>
      </table>
    </section>
    <section class="sheet max-w-6xl p-4">
      <h2 class="mb-1">Stores</h2>
      <table class="w-full table-fixed">
        <thead>
          <tr class="h-7 text-2xs text-soft">
            <th style="width: 22%">Store</th>
            <th class="px-2">Note in the parcel</th>
            <th class="px-2" style="width: 18%">Own phone</th>
            <th style="width: 80px" />
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in data?.stores" :key="one.id" class="h-10 border-t border-rule-2">
            <td class="truncate font-semibold">{{ one.name }}</td>
            <td class="truncate px-2 text-soft" :title="one.greeting">{{ one.greeting || 'none' }}</td>
            <td class="px-2">{{ one.phone || '–' }}</td>
            <td class="text-right"><Btn small @click="edit(null, one)">Change</Btn></td>
          </tr>
        </tbody>
      </table>
    </section>
    <MailIn v-if="data" :ordering="data" />
    <section class="sheet mt-4 max-w-6xl p-4">
      <h2 class="mb-1">Carriers</h2>
      <p class="text-soft">
        What their numbers look like: A for a letter, 9 for a digit. Empty: as posts number them, with a check digit; * for any. And where a
        parcel can be followed, with {number} for its number.
      </p>
      <form v-for="one in data?.carriers" :key="one.id" class="mt-2 flex items-center gap-3" @submit.prevent="keepShape(one)">
        <label class="flex items-center gap-3"
          ><span class="w-56 font-semibold">{{ one.name }}</span
          ><input
            class="field code w-64!"
            maxlength="40"
            placeholder="AA999999999AA, checked"
            :value="shapes[one.id] ?? one.shape"
            @input="shapes[one.id] = ($event.target as HTMLInputElement).value" /></label
        ><input
          class="field code w-80!"
          maxlength="500"
          placeholder="https://…/{number}"
          :aria-label="`Tracking page of ${one.name}`"
          :value="pages[one.id] ?? one.page"
          @input="pages[one.id] = ($event.target as HTMLInputElement).value"
        /><Btn small :disabled="!changed(one)" @click="keepShape(one)">Save</Btn>
      </form>
    </section>
    <Modal
      v-if="supplier || store"
      open
      :title="`How we order: ${(supplier ?? store)!.name}`"
      :message="store ? '{name} is the receiver. The packing slip is a PDF at each purchase order.' : undefined"
      @close="edit(null, null)"
    >
      <form class="grid grid-cols-2 gap-3" @submit.prevent="keep">
        <template v-if="supplier">
          <label class="col-span-2"
            ><span class="label">Note to the packer</span><input v-model="form.parcel_note" class="field" maxlength="300"
          /></label>
          <label
            ><span class="label">Whose phone number is told</span
            ><select v-model="form.phone_rule" class="field">
              <option v-for="(word, key) in PHONES" :key="key" :value="key">{{ word }}</option>
            </select></label
          >
          <template v-if="!supplier.called">
            <label
              ><span class="label">Orders are</span
              ><select v-model="form.order_form" class="field">
                <option v-for="(word, key) in FORMS" :key="key" :value="key">{{ word }}</option>
              </select></label
            >
            <label
              ><span class="label">and are</span
              ><select v-model="form.order_road" class="field">
                <option v-for="(word, key) in ROADS" :key="key" :value="key">{{ word }}</option>
              </select></label
            >
          </template>
          <label
            ><span class="label">Its mail address</span><input v-model="form.mail" class="field" maxlength="200" /><span
              v-if="wrong.mail"
              class="text-xs text-brick"
              >{{ wrong.mail }}</span
            ></label
          >
        </template>
        <template v-else>
          <label class="col-span-2"
            ><span class="label">Note in the parcel</span
            ><textarea v-model="form.greeting" class="field h-20! py-1.5" maxlength="250" placeholder="Clear skies, {name}!" /></label
          ><label><span class="label">The store's own phone number</span><input v-model="form.phone" class="field" maxlength="40" /></label>
        </template>
        <button type="submit" class="hidden" />
      </form>
      <p v-if="error" role="alert" class="mt-2 text-brick">{{ error }}</p>
      <template #acts><Btn @click="edit(null, null)">Cancel</Btn><Btn kind="main" @click="keep">Save</Btn></template>
    </Modal>
  </div>
</template>
