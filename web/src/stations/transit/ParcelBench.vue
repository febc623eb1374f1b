<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { api, take } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import { dateOf, fullTime, timeOf } from '@/parts/format'
import Sight from '@/parts/Sight.vue'
import Help from './Help.vue'
import OpenCase from './OpenCase.vue'
import { parcelQuery } from './cases'

const props = defineProps<{ parcel: number }>()
const asked = useQuery(computed(() => parcelQuery(props.parcel)))
const { data } = asked
const opening = ref(0)
const MARKS = { moving: 'It is on its way', delivered: 'It was delivered', returned: 'It comes back' }
const mark = (what: string) =>
  act(() => take(api.POST('/api/v1/transit/parcels/{number}/mark', { params: { path: { number: props.parcel } }, body: { what } })))
</script>

<template>
  <Sight :of="asked" />
  <div v-if="data">
    <p class="text-soft">
      {{ data.carrier
      }}<a v-if="data.page" class="ml-2 text-slate underline" :href="data.page" target="_blank" rel="noopener noreferrer">its page</a>
    </p>
    <h1 class="font-mono text-base! font-medium">{{ data.number }}</h1>
    <p class="mt-1">
      Order
      <RouterLink class="code text-slate hover:underline" :to="`/orders?row=${data.order_id}&words=${data.order}`">{{
        data.order
      }}</RouterLink>
      of {{ data.buyer
      }}<template v-for="one in data.others" :key="one.id"
        >, and
        <RouterLink class="code text-slate hover:underline" :to="`/orders?row=${one.id}&words=${one.number}`">{{
          one.number
        }}</RouterLink></template
      ><template v-if="data.promised_by">, promised by {{ dateOf(data.promised_by) }}</template
      >.
    </p>
    <p v-if="data.ended_by === 'policy'" class="mt-2 text-soft">
      Taken as arrived: it moved, and nobody said otherwise for as long as your limits have it.
    </p>
    <p v-if="data.by_hand && ['label', 'moving'].includes(data.state)" class="mt-2 flex flex-wrap items-center gap-2">
      <Btn v-for="(label, what) in MARKS" v-show="what !== data.state" :key="what" small @click="mark(what)">{{ label }}</Btn><span
        class="text-xs text-soft"
        >your word counts like the carrier’s, and cannot be undone</span
      >
    </p>
    <Help v-if="data.trouble" :parcel="props.parcel" :message="data" />
    <p v-for="one in data.lines" :key="one.id" class="mt-2 flex items-center gap-2">
      <span class="min-w-0 flex-1 truncate" :title="one.title">{{ one.title }}</span><RouterLink
        v-if="one.case"
        class="font-semibold text-slate hover:underline"
        :to="`/transit?show=cases&case=${one.case}`"
        >its case</RouterLink
      ><Btn v-else small @click="opening = one.id">Open a case</Btn>
    </p>
    <OpenCase v-if="opening" :line="opening" :reason="data.state === 'moving' ? 'late' : 'no_movement'" @close="opening = 0" />
    <h2 class="mt-4">What the carrier said</h2>
    <ol class="mt-1 border-l-2 border-rule pl-3">
      <li v-for="event in [...data.events].reverse()" :key="event.at + event.kind" class="py-1" :title="fullTime(event.at)">
        <b>{{ event.message }}</b><span v-if="event.place" class="text-soft">, {{ event.place }}</span
        ><span class="block text-xs text-soft">{{ dateOf(event.at) }} {{ timeOf(event.at) }}</span>
      </li>
      <li v-if="!data.events.length" class="py-1 text-soft">
        Nothing yet; the label was made {{ dateOf(data.made_at) }} {{ timeOf(data.made_at) }}.
      </li>
    </ol>
    <h2 class="mt-4">Told to</h2>
    <p class="mt-1">
      The store:
      {{
        data.confirmed
          ? `${dateOf(data.confirmed)} ${timeOf(data.confirmed)}, once`
          : data.passed_on
            ? data.by_sheets
              ? 'in the next sheet to it'
              : 'on its way there'
            : 'this order came by a sheet'
      }}
    </p>
    <details v-for="mail in data.mails" :key="mail.kind + mail.at" class="mt-1">
      <summary class="cursor-pointer">
        The buyer: {{ mail.subject }} <span class="text-soft">({{ mail.state }})</span>
      </summary>
      <pre class="mt-1 rounded bg-shade p-2 font-sans text-xs whitespace-pre-wrap">{{ mail.body }}</pre>
    </details>
    <p v-if="!data.mails.length" class="mt-1 text-soft">The buyer was not mailed.</p>
  </div>
</template>
