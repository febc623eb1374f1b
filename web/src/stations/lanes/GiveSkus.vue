<script setup lang="ts">
/** SKUs of the queue handed out: this one, or the first of those that nobody has, to somebody who maps. */
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { api, take, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import { helpersQuery } from '@/stations/today/queries'

const MANY = 20
const props = defineProps<{ rows: Schema<'ToSettleRow'>[]; sku: number | null }>()
const { data: helpers } = useQuery(helpersQuery('lanes'))
const free = computed(() => props.rows.filter((one) => !one.given).slice(0, MANY))
const current = computed(() => props.rows.find((one) => one.sku_id === props.sku))
function give(value: string) {
  const [what, who] = value.split(':')
  const skus = what === 'many' ? free.value.map((one) => one.sku_id) : props.sku ? [props.sku] : []
  if (skus.length) void act(() => take(api.POST('/api/v1/lanes/give', { body: { skus, person: Number(who) || null } })))
}
</script>

<template>
  <select
    v-if="(helpers?.length ?? 0) > 1"
    class="field mt-2 h-7! py-0! text-xs"
    value=""
    aria-label="Give to"
    @change="(give(($event.target as HTMLSelectElement).value), (($event.target as HTMLSelectElement).value = ''))"
  >
    <option value="" disabled>Give to …</option>
    <optgroup v-if="current" label="this one">
      <option v-if="current.given" value="one:0">nobody</option>
      <option v-for="one in helpers" :key="one.id" :value="`one:${one.id}`">{{ one.name }}</option>
    </optgroup>
    <optgroup v-if="free.length > 1" :label="`the first ${free.length} that nobody has`">
      <option v-for="one in helpers" :key="one.id" :value="`many:${one.id}`">{{ one.name }}</option>
    </optgroup>
  </select>
</template>
