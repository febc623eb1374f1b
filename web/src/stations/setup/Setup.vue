<script setup lang="ts">
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import Pills from '@/parts/Pills.vue'
import { live } from '@/app/live'
import { may } from '@/app/may'
import HouseSet from './HouseSet.vue'
import Calls from './Calls.vue'
import Carriers from './Carriers.vue'
import Descriptions from './Descriptions.vue'
import Files from './Files.vue'
import Limits from './Limits.vue'
import LogList from './LogList.vue'
import MailSet from './MailSet.vue'
import Ordering from './Ordering.vue'
import OutboxList from './OutboxList.vue'
import Partners from './Partners.vue'
import People from './People.vue'
import WorldSet from './WorldSet.vue'
import You from './You.vue'

const route = useRoute()
const router = useRouter()
const PARTS = [
  ['partners', 'Stores and suppliers', Partners, 'settings'],
  ['descriptions', 'Described partners', Descriptions, 'settings'],
  ['files', 'Sheets by server', Files, 'settings'],
  ['carriers', 'Carrier names', Carriers, 'settings'],
  ['limits', 'Limits', Limits, 'settings'],
  ['ordering', 'How we order', Ordering, 'settings'],
  ['mail', 'Mail to buyers', MailSet, 'settings'],
  ['world', 'Practice world', WorldSet, 'settings'],
  ['log', 'Log', LogList, null],
  ['outbox', 'Outbox', OutboxList, 'settings'],
  ['people', 'People', People, 'people'],
  ['house', 'Business', HouseSet, 'settings'],
  ['you', 'Your sign-in', You, null],
  ['calls', 'For programs', Calls, null],
] as const
const shown = computed(() =>
  PARTS.filter(([key, , , needs]) => (key !== 'world' || live.pulse.value?.practice !== false) && (!needs || may(needs))),
)
const part = computed(() => shown.value.find(([key]) => key === route.params.part) ?? shown.value[0]!)
</script>

<template>
  <div class="flex h-full flex-col">
    <div class="border-b border-rule px-4.5 py-2.5">
      <Pills
        :options="shown.map(([key, label]) => ({ key, label }))"
        :chosen="part[0]"
        label="Parts of set-up"
        tight
        @choose="router.push(`/setup/${$event}`)"
      />
    </div>
    <component :is="part[2]" class="min-h-0 flex-1 overflow-auto p-4.5" />
  </div>
</template>
