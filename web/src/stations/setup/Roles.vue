<script setup lang="ts">
/** What each role may do, as one table, and one of them changed or made. */
import { computed, reactive, ref } from 'vue'
import { api, take, type Money, type Schema } from '@/api/client'
import Btn from '@/parts/Btn.vue'
import { useForm } from '@/parts/form'
import { inField, money, plainOf, plural } from '@/parts/format'
import { home, homeSign } from '@/parts/home'
import Modal from '@/parts/Modal.vue'

type Role = Schema<'RoleOut'>
type Permission = Schema<'Permission'>
const props = defineProps<{ of: Schema<'RolesOut'> }>()
/** As they stand in the table's head, short. */
const SHORT: Record<Permission, string> = {
  'see goods': 'sees goods',
  'see orders': 'sees orders',
  'see money': 'sees money',
  'see books': 'sees books',
  map: 'maps',
  list: 'lists',
  price: 'prices',
  order: 'buys',
  claim: 'claims',
  'keep books': 'keeps books',
  settings: 'settings',
  people: 'people',
}
const LONG: Record<Permission, string> = {
  'see goods': 'See SKUs, listings, lanes and items, without money',
  'see orders': 'See orders, buyers, parcels and cases',
  'see money': 'See what things cost, sell for and leave',
  'see books': 'See the books',
  map: 'Map SKUs to items, open and close lanes',
  list: 'Find goods, prepare and publish listings',
  price: 'Change prices, rules and rates',
  order: 'Buy, hold and cancel orders, and load depots',
  claim: 'Follow parcels, open and settle cases',
  'keep books': 'Enter costs, settle statements',
  settings: 'Connect partners, change limits and the business',
  people: 'Let people in and say what they may do',
}
const open = ref<Role | null>(null)
const fresh = ref(false)
const form = reactive({ name: '', permissions: new Set<Permission>(), spend: '', refund: '', free: { spend: false, refund: false } })
const { error, wrong, clear, sendAct } = useForm()
/** A permission is not chosen alone: what it needs to see comes along. */
const brought = computed(() => new Set(props.of.permissions.filter((one) => form.permissions.has(one.name)).flatMap((one) => one.needs)))
function toggle(one: Permission) {
  const next = new Set(form.permissions)
  if (!next.delete(one)) next.add(one)
  form.permissions = next
}
function show(one: Role | null) {
  clear()
  fresh.value = !one
  Object.assign(form, {
    name: one?.name ?? '',
    permissions: new Set(one?.permissions ?? []),
    spend: inField(one?.spend?.amount ?? '0'),
    refund: inField(one?.refund?.amount ?? '0'),
    free: { spend: one ? !one.spend : false, refund: one ? !one.refund : false },
  })
  open.value = one
}
const limit = (kind: 'spend' | 'refund'): Money | null =>
  form.free[kind] ? null : { amount: plainOf(form[kind]) || '0', currency: home.value }
const close = () => ((open.value = null), (fresh.value = false))
function keep() {
  const body = {
    name: form.name,
    permissions: [...form.permissions, ...brought.value],
    spend: limit('spend'),
    refund: limit('refund'),
    version: open.value ? open.value.version : null,
  }
  return sendAct(() => take(api.PUT('/api/v1/setup/roles', { body })), close)
}
function remove() {
  const one = open.value
  if (!one) return
  const params = { path: { name: one.name }, query: { version: one.version } }
  return sendAct(() => take(api.DELETE('/api/v1/setup/roles/{name}', { params })), close)
}
/** Of whoever buys nothing and refunds nobody, no limit is told. */
const limitOf = (one: Money | null | undefined, role: Role) =>
  role.permissions.includes('order') || role.permissions.includes('claim') ? (one ? money(one) : 'any') : '–'
</script>

<template>
  <div class="sheet overflow-x-auto">
    <div class="flex items-center justify-between px-4 pt-3">
      <h2>Roles</h2>
      <Btn small @click="show(null)">Make a role</Btn>
    </div>
    <table class="mt-1 w-full">
      <thead>
        <tr class="h-8 border-b border-rule text-2xs text-soft">
          <th class="px-4">Role</th>
          <th v-for="one in of.permissions" :key="one.name" class="px-1 text-center leading-3" :title="LONG[one.name]">
            {{ SHORT[one.name] }}
          </th>
          <th class="px-2 text-right leading-3" title="a day, by purchases">spends</th>
          <th class="px-2 text-right leading-3" title="a day, to buyers">refunds</th>
          <th class="px-2 text-right">People</th>
          <th><span class="sr-only">Change</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in of.roles" :key="one.name" class="h-10 border-b border-rule-2 last:border-0">
          <td class="px-4 font-semibold whitespace-nowrap" :title="one.words">{{ one.name }}</td>
          <td v-if="one.own_page" :colspan="of.permissions.length" class="px-1 text-soft">{{ one.words }}</td>
          <td v-for="right in one.own_page ? [] : of.permissions" :key="right.name" class="px-1 text-center">
            <span v-if="one.permissions.includes(right.name)" class="font-bold text-pine" :aria-label="`may ${right.name}`">✓</span
            ><span v-else class="text-faint" aria-hidden="true">·</span>
          </td>
          <td class="px-2 text-right whitespace-nowrap">{{ limitOf(one.spend, one) }}</td>
          <td class="px-2 text-right whitespace-nowrap">{{ limitOf(one.refund, one) }}</td>
          <td class="px-2 text-right">{{ one.people || '–' }}</td>
          <td class="px-3 text-right">
            <Btn v-if="!one.fixed" small :aria-label="`Change the role ${one.name}`" @click="show(one)">Change</Btn>
          </td>
        </tr>
      </tbody>
    </table>
    <Modal
      v-if="open || fresh"
      open
      :title="open ? `What a ${open.name} may do` : 'A role of your own'"
      :message="open?.people ? `It holds at once for ${plural(open.people, 'person', 'people')}.` : ''"
      broad
      @close="close"
    >
      <form class="grid grid-cols-2 gap-x-6 gap-y-1" @submit.prevent="keep">
        <label v-if="!open" class="col-span-2 mb-2 max-w-xs"
          ><span class="label">Name</span><input v-model="form.name" class="field" maxlength="40" :aria-invalid="!!wrong.name"
        /></label>
        <label v-for="one in of.permissions" :key="one.name" class="flex min-h-7 items-center gap-2"
          ><input
            type="checkbox"
            class="size-4 accent-pine"
            :checked="form.permissions.has(one.name) || brought.has(one.name)"
            :disabled="brought.has(one.name)"
            @change="toggle(one.name)"
          />{{ LONG[one.name] }}</label
        >
        <div v-for="kind in ['spend', 'refund'] as const" :key="kind" class="mt-3">
          <label
            ><span class="label">{{ kind === 'spend' ? 'Buys for at most' : 'Refunds at most' }} {{ homeSign }} a day</span
            ><input
              v-model="form[kind]"
              class="field max-w-40"
              inputmode="decimal"
              :disabled="form.free[kind]"
              :aria-invalid="!!wrong[kind]"
          /></label>
          <label class="mt-1 flex min-h-7 items-center gap-2"
            ><input v-model="form.free[kind]" type="checkbox" class="size-4 accent-pine" />any amount</label
          >
        </div>
        <p class="col-span-2 mt-2 text-soft">What is above waits on Today for somebody who may; nothing is done before they say so.</p>
        <p v-if="error" role="alert" class="col-span-2 text-brick">{{ error }}</p>
      </form>
      <template #acts
        ><Btn v-if="open && open.version > 0" kind="loss" class="mr-auto" @click="remove">{{
          open.own ? 'Remove this role' : 'As in the beginning'
        }}</Btn
        ><Btn @click="close">Cancel</Btn><Btn kind="main" @click="keep">Save</Btn></template
      >
    </Modal>
  </div>
</template>
