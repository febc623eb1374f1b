<script setup lang="ts">
/** What buyers wrote: the mail with its pictures, the lines of its order, and a case opened of one of them by a key. */
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { ROOT, api, take } from '@/api/client'
import { useKeys } from '@/app/keys'
import { may } from '@/app/may'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import KeyHint from '@/parts/KeyHint.vue'
import Sight from '@/parts/Sight.vue'
import Tag from '@/parts/Tag.vue'
import When from '@/parts/When.vue'
import { money } from '@/parts/format'
import OpenCase from './OpenCase.vue'
import { REASONS, mailQuery, mailsQuery } from './cases'

const emit = defineEmits<{ opened: [] }>()
const route = useRoute()
const asked = useQuery(mailsQuery())
const rows = computed(() => asked.data.value ?? [])
const cursor = ref(0)
watch(
  [() => route.query.mail, () => rows.value.length],
  () => {
    const at = rows.value.findIndex((one) => one.id === Number(route.query.mail))
    cursor.value = at >= 0 ? at : Math.max(0, Math.min(cursor.value, rows.value.length - 1))
  },
  { immediate: true },
)
const chosen = computed(() => rows.value[cursor.value])
const { data: mail } = useQuery(computed(() => ({ ...mailQuery(chosen.value?.id ?? 0), enabled: !!chosen.value })))
const line = ref<number | null>(null)
const can = computed(() => may('claim'))
const open = (number: number | undefined) => can.value && number && (line.value = number)
const read = () =>
  chosen.value &&
  can.value &&
  void act(() => take(api.POST('/api/v1/buyer-mails/{number}/read', { params: { path: { number: chosen.value!.id } } })))
const go = (to: number) => (cursor.value = Math.max(0, Math.min(to, rows.value.length - 1)))
const first = computed(() => mail.value?.lines.find((one) => !one.case)?.id)
useKeys('Buyers’ mails', [
  { key: 'j', message: 'next', run: () => go(cursor.value + 1) },
  { key: 'k', message: 'the one before', run: () => go(cursor.value - 1) },
  { key: 'o', message: 'open a case', run: () => open(first.value) },
  { key: 'r', message: 'read, no case', run: () => read() },
])
</script>

<template>
  <div class="sheet flex min-h-0 flex-1 overflow-hidden">
    <Sight
      :of="asked"
      :empty="!rows.length"
      title="No buyer waits for an answer"
      message="Mails about orders appear here by themselves, from the mailbox that is read for answers of suppliers."
      :lines="5"
    >
      <ul class="w-[230px] shrink-0 overflow-auto border-r border-rule" aria-label="Buyers’ mails">
        <li v-for="(one, n) in rows" :key="one.id">
          <button
            type="button"
            class="relative block w-full border-b border-rule-2 px-3 py-2 text-left"
            :class="n === cursor ? 'bg-shade' : 'hover:bg-shade/60'"
            :aria-current="n === cursor"
            @click="cursor = n"
          >
            <span v-if="n === cursor" class="absolute inset-y-0 left-0 w-[3px] bg-asphalt" aria-hidden="true" />
            <span class="flex justify-between gap-2"
              ><b class="truncate">{{ one.buyer }}</b
              ><span class="shrink-0 text-xs text-soft"><When :at="one.at" /></span></span
            ><span class="block truncate text-soft" :title="one.subject">{{ one.subject || 'no subject' }}</span>
          </button>
        </li>
      </ul>
      <article v-if="mail" class="min-w-0 flex-1 overflow-auto p-4" aria-label="The mail">
        <h2>{{ mail.row.subject || 'no subject' }}</h2>
        <p class="text-soft">
          {{ mail.row.buyer }}, {{ mail.row.sender }}, about order
          <RouterLink class="code text-slate hover:underline" :to="`/orders?state=all&row=${mail.row.order_id}`">{{
            mail.row.order
          }}</RouterLink>
          of {{ mail.row.store }}
        </p>
        <p v-if="!mail.row.is_buyers" class="mt-2 rounded bg-amber-wash px-3 py-2 text-amber-ink">
          {{
            mail.row.known
              ? 'This is not the address that the order was placed with.'
              : 'Its store told no address of this buyer, so nothing proves who writes.'
          }}
          Anybody can name an order: ask before you pay anything back.
        </p>
        <p class="mt-3 max-w-prose break-words whitespace-pre-line">{{ mail.body.trim() }}</p>
        <div v-if="mail.pictures.length" class="mt-3 flex flex-wrap gap-2">
          <a
            v-for="one in mail.pictures"
            :key="one"
            :href="`${ROOT}/api/v1/shelf/pictures/${one}`"
            target="_blank"
            rel="noopener"
            aria-label="A picture from the mail, in a page of its own"
            ><img :src="`${ROOT}/api/v1/shelf/pictures/${one}`" alt="From the mail" class="h-24 rounded border border-rule"
          /></a>
        </div>
        <table class="mt-4 w-full">
          <tbody>
            <tr v-for="one in mail.lines" :key="one.id" class="h-11 border-t border-rule-2">
              <td class="pr-2">
                <span class="line-clamp-1" :title="one.title">{{ one.units }} × {{ one.title }}</span>
              </td>
              <td class="px-2 text-right whitespace-nowrap">{{ money(one.paid) }}</td>
              <td class="pl-2 text-right whitespace-nowrap">
                <RouterLink v-if="one.case" :to="`/transit?show=cases&case=${one.case}`" @click="emit('opened')"
                  ><Tag tone="info">has a case</Tag></RouterLink
                ><Btn
                  v-else-if="can"
                  small
                  :kind="one.id === first ? 'main' : 'plain'"
                  :hint="one.id === first ? 'O' : undefined"
                  @click="open(one.id)"
                  >Open a case</Btn
                >
              </td>
            </tr>
          </tbody>
        </table>
        <div class="mt-3 flex items-center gap-4">
          <Btn v-if="can" small hint="R" @click="read">Read, no case</Btn><KeyHint keys="J K" message="move" /><span
            v-if="mail.reason"
            class="text-soft"
            >It seems to be about: {{ REASONS[mail.reason]?.toLowerCase() }}</span
          >
        </div>
      </article>
    </Sight>
    <OpenCase
      v-if="line && mail"
      :line="line"
      :mail="mail.row.id"
      :reason="mail.reason"
      :words="mail.body.trim().slice(0, 1500)"
      @close="line = null"
    />
  </div>
</template>
