<script setup lang="ts">
/** A line that no lane fills: the likest items right here; one key opens the lane, and the order goes on by itself. */
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import type { Schema } from '@/api/client'
import { useKeys } from '@/app/keys'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import LikenessBar from '@/parts/LikenessBar.vue'
import MarkedTitle from '@/parts/MarkedTitle.vue'
import Sight from '@/parts/Sight.vue'
import Tag from '@/parts/Tag.vue'
import { money, number } from '@/parts/format'
import { offersQuery } from '@/stations/lanes/queries'
import { settle } from '@/stations/lanes/settle'

const props = defineProps<{ line: Schema<'LineOut'>; keys: boolean }>()
const asked = useQuery(computed(() => offersQuery(props.line.sku_id!, '')))
const { data } = asked
const rows = computed(() => (data.value ?? []).slice(0, 3))
const open = (one: Schema<'OfferOut'>) => act(() => settle(props.line.sku_id!, one, 0, one.units))
if (props.keys)
  useKeys(
    'The line without a lane',
    [0, 1, 2].map((n) => ({
      key: String(n + 1),
      message: '1 to 3: open the lane to it',
      run: () => rows.value[n] && void open(rows.value[n]),
    })),
  )
</script>

<template>
  <div class="border-t border-rule px-3.5 py-2">
    <p class="flex items-baseline gap-2">
      <b>Which item fills {{ line.title || line.sku }}?</b
      ><RouterLink class="ml-auto font-semibold text-slate hover:underline" :to="`/lanes?sku=${line.sku_id}`"
        >See all that is like it</RouterLink
      >
    </p>
    <Sight :of="asked" :lines="3" />
    <p v-if="data && !rows.length" class="text-soft">Nothing is like it; search in Lanes, or ask a supplier for it.</p>
    <table v-else-if="data" class="mt-1 w-full table-fixed">
      <tbody>
        <tr v-for="(one, n) in rows" :key="one.item_id" class="h-10 border-t border-rule-2 first:border-0">
          <td class="w-7">
            <kbd v-if="keys" class="rounded border border-faint px-1 font-mono text-2xs">{{ n + 1 }}</kbd>
          </td>
          <td class="pr-2">
            <span class="block truncate font-semibold"><MarkedTitle :title="one.title" :marks="one.marks" /></span
            ><span class="cell-2 block truncate"
              ><span class="code">{{ one.units === '1' ? '' : `${one.units} × ` }}{{ one.number }}</span> {{ one.supplier }}</span
            >
          </td>
          <td class="w-44 pr-2">
            <Tag v-if="one.lane" tone="info">{{ one.lane_state === 'shut' ? 'its lane, shut' : 'its lane' }}</Tag><Tag
              v-else-if="one.doubt"
              class="max-w-full truncate"
              :title="one.doubt"
              >{{ one.doubt }}</Tag
            ><Tag v-else-if="one.differs[0]" tone="loss" class="max-w-full truncate" :title="one.differs.join('; ')">{{
              one.differs[0]
            }}</Tag
            ><Tag v-else-if="one.agrees[0]" tone="good" class="max-w-full truncate" :title="one.agrees.join('; ')">{{ one.agrees[0] }}</Tag>
          </td>
          <td class="w-32 text-right whitespace-nowrap">
            <template v-if="one.landed"
              ><b class="mr-2">{{ money(one.landed) }}</b
              ><span :class="one.profit && number(one.profit) < 0 ? 'text-brick' : 'text-pine'">{{
                money(one.profit, true)
              }}</span></template
            ><span v-else class="text-brick">{{ one.reason_not }}</span>
          </td>
          <td class="w-24 text-right"><LikenessBar :score="one.score" :decision="one.decision" /></td>
          <td class="w-24 text-right"><Btn small @click="open(one)">Fill by this</Btn></td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
