<script setup lang="ts">
/** Who somebody is: their role, and what they are limited to. */
import { computed } from 'vue'
import type { Schema } from '@/api/client'
import type { Who } from './people'

const props = defineProps<{ of: Schema<'RolesOut'>; wrong?: Record<string, string> }>()
const who = defineModel<Who>({ required: true })
const role = computed(() => props.of.roles.find((one) => one.name === who.value.role))
/** An agent works for suppliers, an assistant for stores; others may be limited, and see everything else where they are not. */
const kinds = computed(() =>
  role.value?.name === 'manager'
    ? []
    : role.value?.name === 'agent'
      ? (['suppliers'] as const)
      : role.value?.name === 'assistant'
        ? (['stores'] as const)
        : (['stores', 'suppliers', 'categories'] as const),
)
const HEADS = { stores: 'Stores', suppliers: 'Suppliers', categories: 'Categories' }
const rows = (kind: 'stores' | 'suppliers' | 'categories') =>
  kind === 'categories'
    ? props.of.categories.map((name) => ({ key: name, name }))
    : props.of[kind].map((one) => ({ key: one.id, name: one.name }))
function toggle(kind: 'stores' | 'suppliers' | 'categories', key: string | number) {
  const mine = who.value[kind] as (string | number)[]
  const next = mine.includes(key) ? mine.filter((one) => one !== key) : [...mine, key]
  who.value = { ...who.value, [kind]: next }
}
</script>

<template>
  <div class="grid grid-cols-3 gap-3">
    <label class="col-span-3 max-w-md"
      ><span class="label">Role</span
      ><select
        class="field"
        :value="who.role"
        :aria-invalid="!!wrong?.role"
        @change="who = { role: ($event.target as HTMLSelectElement).value, stores: [], suppliers: [], categories: [] }"
      >
        <option v-for="one in of.roles" :key="one.name" :value="one.name">{{ one.name }}{{ one.words ? `: ${one.words}` : '' }}</option>
      </select></label
    >
    <fieldset v-for="kind in kinds" :key="kind" class="min-w-0">
      <legend class="label">{{ role?.own_page ? `Which ${kind}` : `${HEADS[kind]}, none chosen = all` }}</legend>
      <div class="max-h-32 overflow-auto rounded border border-rule px-2 py-1">
        <label v-for="one in rows(kind)" :key="one.key" class="flex min-h-7 items-center gap-2"
          ><input
            type="checkbox"
            class="size-4 shrink-0 accent-pine"
            :checked="(who[kind] as (string | number)[]).includes(one.key)"
            @change="toggle(kind, one.key)"
          /><span class="truncate" :title="one.name">{{ one.name }}</span></label
        >
        <p v-if="!rows(kind).length" class="text-soft">There are none yet.</p>
      </div>
    </fieldset>
  </div>
</template>
