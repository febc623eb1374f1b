<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { reactive } from 'vue'
import { api, take } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import Sight from '@/parts/Sight.vue'
import When from '@/parts/When.vue'
import { wrongNumbersQuery } from './cases'

const asked = useQuery(wrongNumbersQuery())
const { data } = asked
const given = reactive<Record<string, string>>({})
const enter = (reference: string) =>
  act(() => take(api.POST('/api/v1/transit/numbers', { body: { reference, number: given[reference] ?? '', carrier: '' } })))
const drop = (reference: string) => act(() => take(api.POST('/api/v1/transit/numbers/drop', { body: { reference } })))
</script>

<template>
  <div class="sheet min-h-0 flex-1 overflow-auto">
    <Sight
      :of="asked"
      :empty="!data?.length"
      title="Every number is right"
      message="A number with a wrong check digit, or one of another order, is not passed on; it waits here until the supplier corrects it or you enter the right one."
    >
      <table class="w-full">
        <thead>
          <tr class="h-8 border-b border-rule text-2xs text-soft">
            <th class="px-3">Purchase order</th>
            <th class="px-3">What is wrong</th>
            <th class="px-3 text-right">Since</th>
            <th class="px-3">The right number</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in data" :key="one.purchase" class="h-11 border-b border-rule-2">
            <td class="px-3">
              <span class="code">{{ one.reference }}</span> <span class="text-xs text-soft">{{ one.supplier }}, order {{ one.order }}</span>
            </td>
            <td class="px-3 text-amber-ink">{{ one.message }}</td>
            <td class="px-3 text-right text-soft"><When :at="one.since" /></td>
            <td class="px-3">
              <form class="flex gap-2" @submit.prevent="enter(one.reference)">
                <input
                  v-model="given[one.reference]"
                  class="field code w-44!"
                  :aria-label="`Number for ${one.reference}`"
                  maxlength="60"
                /><Btn small :disabled="!given[one.reference]" @click="enter(one.reference)">Enter</Btn
                ><Btn
                  small
                  kind="link"
                  title="It is not of this order; nothing is passed on, and a right one is waited for"
                  @click="drop(one.reference)"
                  >Set aside</Btn
                >
              </form>
            </td>
          </tr>
        </tbody>
      </table>
    </Sight>
  </div>
</template>
