<script setup lang="ts">
/** Take exactly what is shown out as a sheet. */
import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/vue'

defineProps<{ csv: string; xlsx: string; label?: string }>()
</script>

<template>
  <Menu as="div" class="relative">
    <MenuButton
      class="inline-flex h-8 items-center rounded whitespace-nowrap border border-rule bg-sheet px-3 text-sm font-semibold hover:bg-shade"
      >{{ label ?? 'Export' }}</MenuButton
    >
    <MenuItems class="absolute right-0 z-20 mt-1 w-40 rounded border border-rule bg-sheet py-1 shadow-md">
      <MenuItem
        v-for="[name, to] in [
          ['as CSV', csv],
          ['as XLSX', xlsx],
        ]"
        :key="name"
        v-slot="{ active }"
        ><a :href="to" download class="block px-3 py-1.5" :class="active ? 'bg-shade' : ''">{{ name }}</a></MenuItem
      >
    </MenuItems>
  </Menu>
</template>
