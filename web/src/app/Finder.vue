<script setup lang="ts">
/** Find or do anything: a SKU, an order, a tracking number, or a command. */
import { watchDebounced } from '@vueuse/core'
import { Combobox, ComboboxInput, ComboboxOption, ComboboxOptions, Dialog, DialogPanel } from '@headlessui/vue'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, take, type Schema } from '@/api/client'
import { useKeys } from './keys'
import { may, type Permission } from './may'
import { act } from './messages'
import { opens } from './router'

interface Choice {
  kind: string
  name: string
  message: string
  run: () => void
  station?: string
  needs?: Permission[]
}
defineProps<{ open: boolean }>()
const emit = defineEmits<{ close: []; open: []; help: [] }>()
const router = useRouter()
const words = ref('')
const found = ref<Schema<'Found'>[]>([])
useKeys('Everywhere', [{ key: 'ctrl+k', message: 'find or do anything', always: true, run: () => emit('open') }])

const go = (to: string) => () => void router.push(to)
/** What a command needs: a view of a station that they may open, a part of set-up, or an act that they may do. */
const allows = (one: Choice) => (one.needs ? may(...one.needs) : true) && (!one.station || opens(one.station))
const COMMANDS: Choice[] = [
  { kind: 'Go', name: 'Today', message: 'what needs you', run: go('/today'), station: 'today' },
  { kind: 'Go', name: 'Source', message: 'find goods in all catalogues', run: go('/source'), station: 'source' },
  { kind: 'Go', name: 'Shelf', message: 'prepare, publish and change listings', run: go('/shelf'), station: 'shelf' },
  { kind: 'Go', name: 'Printed for each order', message: 'artwork, designs and print houses', run: go('/shelf/print'), station: 'shelf' },
  { kind: 'Go', name: 'Lanes', message: 'map what has no lane', run: go('/lanes'), station: 'lanes' },
  { kind: 'Go', name: 'Price', message: 'rules, fees and what if', run: go('/price'), station: 'price' },
  { kind: 'Go', name: 'Listings', message: 'every price and why', run: go('/price?view=listings'), station: 'price' },
  { kind: 'Go', name: 'Replay', message: 'other rules over the past weeks', run: go('/price?view=replay'), station: 'price' },
  { kind: 'Go', name: 'Plans', message: 'is a membership or a volume discount worth it', run: go('/price?view=plans'), station: 'price' },
  { kind: 'Go', name: 'Rates and fees', message: 'what stores take, what money is worth', run: go('/price?view=fees'), station: 'price' },
  { kind: 'Go', name: 'By cause', message: 'what each sweep did, taken back as one', run: go('/watch?state=groups'), station: 'watch' },
  { kind: 'Go', name: 'Calls plan', message: 'where the calls of a retail site go', run: go('/watch?state=calls'), station: 'watch' },
  {
    kind: 'Go',
    name: 'Stores differ',
    message: 'what stores show otherwise than we asked',
    run: go('/watch?state=differs'),
    station: 'watch',
  },
  { kind: 'Go', name: 'Watch', message: 'sweeps and responses', run: go('/watch'), station: 'watch' },
  { kind: 'Go', name: 'Orders', message: 'where they stand', run: go('/orders'), station: 'orders' },
  { kind: 'Go', name: 'Transit', message: 'parcels and promises', run: go('/transit'), station: 'transit' },
  { kind: 'Go', name: 'Depot', message: 'our own stock, and when to order', run: go('/depot'), station: 'depot' },
  { kind: 'Go', name: 'Worth holding', message: 'what would be cheaper from a depot', run: go('/depot?view=worth'), station: 'depot' },
  { kind: 'Go', name: 'Loads', message: 'on their way to a depot', run: go('/depot?view=loads'), station: 'depot' },
  { kind: 'Go', name: 'Stores and suppliers', message: 'connect, check, mend links', run: go('/setup/partners'), needs: ['settings'] },
  { kind: 'Go', name: 'Limits', message: 'what we follow and what we hold', run: go('/setup/limits'), needs: ['settings'] },
  { kind: 'Go', name: 'Log', message: 'who did what, and undo', run: go('/setup/log') },
  {
    kind: 'Do',
    name: 'Send all ready orders',
    needs: ['order'],
    message: 'as purchase orders to suppliers',
    run: () => void act(() => take(api.POST('/api/v1/orders/send', { body: { paid_together: false } }))),
  },
  {
    kind: 'Do',
    name: 'Sweep now',
    needs: ['price'],
    message: 'the first supplier',
    run: () => void act(() => take(api.POST('/api/v1/watch/suppliers/{supplier}/sweep', { params: { path: { supplier: 1 } } }))),
  },
  { kind: 'Do', name: 'Keys of this view', message: '', run: () => emit('help') },
]
watchDebounced(
  words,
  async (now) => {
    found.value = now.trim().length > 1 ? await take(api.GET('/api/v1/find', { params: { query: { words: now } } })).catch(() => []) : []
  },
  { debounce: 120 },
)
const choices = computed<Choice[]>(() => {
  const text = words.value.trim().toLowerCase()
  const commands = COMMANDS.filter((one) => allows(one)).filter((one) => !text || `${one.name} ${one.message}`.toLowerCase().includes(text))
  return [...found.value.map((one) => ({ kind: one.kind, name: one.name, message: one.message, run: go(one.go) })), ...commands].slice(
    0,
    16,
  )
})
function choose(choice: Choice | null) {
  if (!choice) return
  close()
  choice.run()
}
function close() {
  words.value = ''
  emit('close')
}
</script>

<template>
  <Dialog :open="open" class="relative z-40" @close="close">
    <div class="fixed inset-0 bg-asphalt/40" aria-hidden="true" />
    <div class="fixed inset-0 flex items-start justify-center p-6 pt-20">
      <DialogPanel class="w-full max-w-xl overflow-hidden rounded-md border border-rule bg-sheet shadow-xl">
        <Combobox :model-value="null" @update:model-value="choose">
          <ComboboxInput
            class="h-11 w-full bg-sheet px-4 text-base outline-none"
            placeholder="A SKU, an order, a tracking number, or what to do"
            aria-label="Find or do"
            maxlength="100"
            autocomplete="off"
            @change="words = $event.target.value"
          />
          <ComboboxOptions static class="max-h-[420px] overflow-auto border-t border-rule py-1">
            <ComboboxOption v-for="one in choices" :key="one.kind + one.name" v-slot="{ active }" :value="one" as="template">
              <li class="grid grid-cols-[70px_auto_1fr] items-baseline gap-2 px-4 py-1.5" :class="active ? 'bg-shade' : ''">
                <span class="text-xs text-soft">{{ one.kind }}</span><span
                  class="font-semibold whitespace-nowrap"
                  :class="one.kind === 'Go' || one.kind === 'Do' ? '' : 'font-mono text-xs'"
                  >{{ one.name }}</span
                ><span class="truncate text-soft">{{ one.message }}</span>
              </li>
            </ComboboxOption>
            <li v-if="!choices.length" class="px-4 py-3 text-soft">Nothing has those words.</li>
          </ComboboxOptions>
        </Combobox>
      </DialogPanel>
    </div>
  </Dialog>
</template>
