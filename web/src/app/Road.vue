<script setup lang="ts">
/** The road: the only navigation. A station's dot becomes an amber number when things there wait for a person. */
import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/vue'
import { computed } from 'vue'
import { useRoute } from 'vue-router'
import { api, take, type Schema } from '@/api/client'
import { dateOf, timeOf } from '@/parts/format'
import { live } from './live'
import { may } from './may'
import { opens, STATIONS } from './router'

const props = defineProps<{ here: Schema<'Here'> }>()
const emit = defineEmits<{ find: []; help: []; left: [] }>()
const route = useRoute()
const station = computed(() => route.meta.station ?? route.name)
const counts = computed(() => live.pulse.value?.counts ?? {})
const at = computed(() => new Date(live.now.value).toISOString())
const pace = computed(() => {
  const speed = live.pulse.value?.speed ?? 1
  return props.here.practice ? (speed ? `practice world ×${speed}` : 'practice world paused') : props.here.name
})
const SETUP = [
  ['partners', 'Stores and suppliers', 'settings'],
  ['limits', 'Limits', 'settings'],
  ['mail', 'Mail to buyers', 'settings'],
  ['world', 'Practice world', 'settings'],
  ['log', 'Log', null],
  ['outbox', 'Outbox', 'settings'],
  ['people', 'People', 'people'],
  ['you', 'Your sign-in', null],
] as const
const parts = computed(() => SETUP.filter(([key, , needs]) => (key !== 'world' || props.here.practice) && (!needs || may(needs))))
const stations = computed(() => STATIONS.filter((one) => opens(one.name)))
async function leave() {
  await take(api.DELETE('/api/v1/session'))
  emit('left')
}
</script>

<template>
  <header class="flex h-[54px] shrink-0 items-stretch gap-5 bg-asphalt px-4 max-[1180px]:gap-3 text-sheet">
    <RouterLink to="/today" class="flex items-center gap-2.5" aria-label="Amber Lane, Today">
      <svg viewBox="0 0 26 26" width="26" height="26" aria-hidden="true">
        <rect width="26" height="26" rx="5" class="fill-amber" />
        <path d="M13 4v4m0 3v4m0 3v4" stroke-width="3" class="stroke-asphalt" />
      </svg>
      <span class="text-[15px] font-bold whitespace-nowrap max-[1180px]:hidden" style="font-stretch: 112%">Amber Lane</span>
    </RouterLink>
    <nav
      aria-label="The road"
      class="relative flex min-w-0 flex-1 px-2 max-[1180px]:px-0"
      :class="stations.length > 5 ? 'justify-between' : 'justify-start gap-6'"
    >
      <span class="road-line absolute inset-x-0 top-[39px] h-[2px]" aria-hidden="true" />
      <RouterLink
        v-for="one in stations"
        :key="one.name"
        :to="`/${one.name}`"
        class="relative flex max-w-20 min-w-0 flex-1 flex-col items-center pt-1.5"
        :aria-current="station === one.name ? 'page' : undefined"
        :aria-label="counts[one.name] ? `${one.label}, ${counts[one.name]} waiting for you` : one.label"
      >
        <span class="text-sm" :class="station === one.name ? 'font-bold' : 'text-rule'">{{ one.label }}</span>
        <span class="mt-0.5 flex h-[17px] items-center bg-asphalt px-1.5">
          <span v-if="counts[one.name]" class="min-w-5 rounded bg-amber px-1.5 text-center text-2xs leading-4 font-bold text-asphalt">{{
            counts[one.name]
          }}</span>
          <span
            v-else
            class="size-2 rounded-full border-[1.5px]"
            :class="station === one.name ? 'border-sheet bg-sheet' : 'border-faint'"
          />
        </span>
        <span v-if="station === one.name" class="absolute inset-x-3 bottom-0 h-1 rounded-t bg-paper" aria-hidden="true" />
      </RouterLink>
    </nav>
    <button
      type="button"
      class="my-auto flex h-8 w-36 shrink-0 items-center justify-between whitespace-nowrap max-[1180px]:w-32 rounded border border-soft px-2.5 text-rule hover:border-faint"
      @click="emit('find')"
    >
      <span>Find<span class="max-[1180px]:hidden"> or do</span></span>
      <kbd class="rounded border border-soft px-1 font-mono text-2xs">Ctrl K</kbd>
    </button>
    <Menu as="div" class="relative my-auto">
      <MenuButton class="rounded px-1 text-left text-xs leading-[15px]" aria-label="Set-up and clock">
        <span class="block whitespace-nowrap">{{ dateOf(at) }} {{ timeOf(at) }}</span
        ><span class="block whitespace-nowrap text-rule">{{ pace }} <span aria-hidden="true">▾</span></span>
      </MenuButton>
      <MenuItems class="absolute right-0 z-30 mt-2 w-56 rounded border border-rule bg-sheet py-1 text-ink shadow-md">
        <p class="px-3 py-1.5 text-xs text-soft">{{ here.name }}, {{ here.role }}</p>
        <MenuItem v-for="[key, label] in parts" :key="key" v-slot="{ active }"
          ><RouterLink :to="`/setup/${key}`" class="block px-3 py-1.5" :class="active ? 'bg-shade' : ''">{{ label }}</RouterLink></MenuItem
        >
        <div class="my-1 border-t border-rule-2" />
        <MenuItem v-slot="{ active }"
          ><button type="button" class="block w-full px-3 py-1.5 text-left" :class="active ? 'bg-shade' : ''" @click="emit('help')">
            Keys of this view <kbd class="float-right font-mono text-2xs text-soft">?</kbd>
          </button></MenuItem
        >
        <MenuItem v-slot="{ active }"
          ><button type="button" class="block w-full px-3 py-1.5 text-left" :class="active ? 'bg-shade' : ''" @click="leave">
            Sign out
          </button></MenuItem
        >
      </MenuItems>
    </Menu>
  </header>
</template>

<style scoped>
.road-line {
  background: repeating-linear-gradient(90deg, var(--color-amber) 0 14px, transparent 14px 29px);
  opacity: 0.85;
}
</style>
