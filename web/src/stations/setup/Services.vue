<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { api, take, type Schema } from '@/api/client'
import Btn from '@/parts/Btn.vue'
import Modal from '@/parts/Modal.vue'
import { money } from '@/parts/format'

const props = defineProps<{ supplier: Schema<'PartnerOut'> }>()
const emit = defineEmits<{ close: [] }>()
const { data } = useQuery({
  queryKey: ['services', props.supplier.id],
  queryFn: () => take(api.GET('/api/v1/setup/suppliers/{number}/services', { params: { path: { number: props.supplier.id } } })),
})
</script>

<template>
  <Modal open :title="`How ${supplier.name} sends`" wide @close="emit('close')">
    <table class="w-full">
      <thead>
        <tr class="h-7 text-2xs text-soft">
          <th>From</th>
          <th>To</th>
          <th>Service</th>
          <th class="text-right">Pack</th>
          <th class="text-right">First</th>
          <th class="text-right">Each next</th>
          <th class="text-right">Free over</th>
          <th class="text-right">Days</th>
          <th class="text-right">Order by</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(one, n) in data ?? []" :key="n" class="h-8 border-t align-top border-rule-2">
          <td>{{ one.origin }}, {{ one.country_from }}</td>
          <td>{{ one.country }}</td>
          <td>
            {{ one.name }} <span class="code text-soft">{{ one.service }}</span>
          </td>
          <td class="text-right">{{ money(one.handling) }}</td>
          <template v-if="one.bands.length"
            ><td class="text-right" colspan="2">
              <span v-for="step in one.bands" :key="step.up_to_g" class="block leading-5"
                >up to {{ step.up_to_g / 1000 }} kg {{ money(step.first) }}, next {{ money(step.following) }}</span
              >
            </td></template
          ><template v-else
            ><td class="text-right">{{ money(one.first) }}</td>
            <td class="text-right">{{ money(one.following) }}</td></template
          >
          <td class="text-right">{{ money(one.free_over) }}</td>
          <td class="text-right">{{ one.days_low }} to {{ one.days_high }}</td>
          <td class="text-right">{{ one.cut_off }}</td>
        </tr>
      </tbody>
    </table>
    <template #acts><Btn @click="emit('close')">Close</Btn></template>
  </Modal>
</template>
