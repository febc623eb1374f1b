<script setup lang="ts">
/** What is printed for each order: designs with what is sold of them, and the artwork that they are made of. */
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { ROOT, api, take, type Schema } from '@/api/client'
import { act } from '@/app/messages'
import Btn from '@/parts/Btn.vue'
import SheetIn from '@/parts/SheetIn.vue'
import Sight from '@/parts/Sight.vue'
import Tag from '@/parts/Tag.vue'
import { count, plural } from '@/parts/format'
import { useRowKeys } from '@/parts/rowKeys'
import ArtworkForm from './ArtworkForm.vue'
import NewDesign from './NewDesign.vue'
import { GROUNDS, artPicture, groundClass, artworkQuery, designsQuery } from './print'

const router = useRouter()
const designs = useQuery(designsQuery())
const art = useQuery(artworkQuery())
const rows = computed(() => designs.data.value?.designs ?? [])
const open = (one: Schema<'DesignRow'> | undefined) => one && void router.push(`/shelf/print/${one.id}`)
const bring = ref(false)
const adding = ref<Schema<'ArtworkOut'> | true | null>(null)
const placing = ref<number | true | null>(null)
const remove = (one: Schema<'ArtworkOut'>) =>
  act(() =>
    take(api.POST('/api/v1/printing/artwork/{number}/remove', { params: { path: { number: one.id } }, body: { version: one.version } })),
  )
const drop = (version: number) =>
  act(() => take(api.DELETE('/api/v1/printing/versions/{number}', { params: { path: { number: version } } })))
const active = useRowKeys('Printed for each order', 'design', () => rows.value.length, [
  { key: 'enter', message: 'open the design', run: () => open(rows.value[active.value]) },
  { key: 'n', message: 'put artwork on something', run: () => (placing.value = true) },
])
const groundOf = (one: Schema<'ArtVersionOut'>) => (one.ground === 'colour' ? `for ${one.colour}` : (GROUNDS[one.ground] ?? one.ground))
</script>

<template>
  <div class="grid h-full grid-cols-[minmax(0,1fr)_388px] max-[1180px]:grid-cols-[minmax(0,1fr)_300px]">
    <section class="flex min-h-0 min-w-0 flex-col gap-3 p-4.5">
      <div class="flex items-start gap-3">
        <div class="min-w-0">
          <h1>Printed for each order</h1>
          <p class="text-soft">
            Goods that are made when they are sold. Nothing is sold that would come out soft, off its place or unreadable.
          </p>
        </div>
        <span class="ml-auto" /><RouterLink to="/shelf"><Btn>All listings</Btn></RouterLink>
        <Btn @click="bring = true">Import</Btn>
        <Btn kind="main" hint="N" :disabled="!art.data.value?.length" @click="placing = true">New design</Btn>
      </div>
      <div class="sheet min-h-0 overflow-auto">
        <Sight
          :of="designs"
          :lines="8"
          :empty="!rows.length"
          title="Nothing is printed yet"
          message="Add artwork at the right, then put it on a bag, a mug or a cushion of a print house."
        >
          <table class="w-full">
            <thead class="sticky top-0 bg-sheet">
              <tr class="h-8 border-b border-rule text-2xs text-soft">
                <th class="px-2.5"><span class="sr-only">Picture</span></th>
                <th class="px-2.5">Design</th>
                <th class="px-2.5">On</th>
                <th class="px-2.5">Main house</th>
                <th class="px-2.5 text-right">Sizes and colours</th>
                <th class="px-2.5 text-right">On sale</th>
                <th class="px-2.5">State</th>
              </tr>
            </thead>
            <tbody>
              <tr
                v-for="(one, n) in rows"
                :key="one.id"
                class="h-13 cursor-pointer border-b border-rule-2"
                :class="n === active ? 'bg-shade' : ''"
                :aria-selected="n === active"
                @click="open(one)"
              >
                <td class="w-14 px-2.5">
                  <img
                    v-if="one.picture"
                    :src="`${ROOT}/api/v1/shelf/pictures/${one.picture}`"
                    alt=""
                    class="size-10 border border-rule object-cover"
                  /><span v-else class="block size-10 border border-dashed border-rule" />
                </td>
                <th scope="row" class="max-w-64 truncate px-2.5" :title="one.name">
                  <RouterLink :to="`/shelf/print/${one.id}`" class="hover:underline">{{ one.name }}</RouterLink><span
                    class="cell-2 block font-normal"
                    >{{ one.artwork }}</span
                  >
                </th>
                <td class="px-2.5">{{ one.blank }}</td>
                <td class="px-2.5">{{ one.house }}</td>
                <td class="px-2.5 text-right">{{ count(one.sold) }}</td>
                <td class="px-2.5 text-right">{{ count(one.on_sale) }}</td>
                <td class="px-2.5">
                  <Tag v-if="one.refused" tone="waits">{{ one.refused }} held by a check</Tag
                  ><Tag v-else-if="!one.sold" tone="plain">not listed yet</Tag><Tag v-else tone="good">as it should be</Tag>
                </td>
              </tr>
            </tbody>
          </table>
        </Sight>
      </div>
    </section>
    <aside class="flex min-h-0 flex-col gap-3 overflow-auto border-l border-rule bg-sheet p-4.5" aria-label="Artwork">
      <div class="flex items-center gap-2">
        <h2 class="text-lg!">Artwork</h2>
        <span class="ml-auto" /><Btn small @click="adding = true">Add artwork</Btn>
      </div>
      <Sight
        :of="art"
        :lines="4"
        :empty="!art.data.value?.length"
        title="No artwork yet"
        message="A drawing is kept once, with a version for light and one for dark cloth, and serves as many products as you like."
      >
        <div v-for="one in art.data.value" :key="one.id" class="border-b border-rule-2 pb-3">
          <p class="flex items-baseline gap-2">
            <b class="truncate" :title="one.name">{{ one.name }}</b><span class="ml-auto shrink-0 text-xs text-soft">{{
              plural(one.listings, 'listing')
            }}</span>
          </p>
          <div class="mt-1.5 flex flex-wrap gap-2">
            <figure v-for="version in one.versions" :key="version.id" class="w-[84px]">
              <span class="grid h-[84px] place-items-center rounded border border-rule" :class="groundClass(version)"
                ><img :src="artPicture(version.id)" :alt="`${one.name}, ${groundOf(version)}`" class="max-h-[76px] max-w-[76px]"
              /></span>
              <figcaption class="mt-0.5 text-2xs text-soft">
                {{ groundOf(version) }}<br />{{ version.vector ? 'drawing' : `${version.width} × ${version.height}` }}
                <button
                  v-if="one.versions.length > 1"
                  type="button"
                  class="ml-1 min-h-6 min-w-6 text-slate hover:underline"
                  :aria-label="`Remove the version ${groundOf(version)} of ${one.name}`"
                  @click="drop(version.id)"
                >
                  remove
                </button>
              </figcaption>
            </figure>
          </div>
          <p class="mt-1.5 flex gap-2">
            <Btn small @click="adding = one">Add a version</Btn><Btn small @click="placing = one.id">Place it</Btn
            ><Btn v-if="!one.listings" small kind="link" @click="remove(one)">Remove</Btn>
          </p>
        </div>
      </Sight>
    </aside>
    <SheetIn :open="bring" sheet="print_lanes" title="Join listings to artwork and a print house" @close="bring = false" />
    <ArtworkForm v-if="adding" :artwork="adding === true ? undefined : adding" @close="adding = null" />
    <NewDesign v-if="placing" :artwork="placing === true ? undefined : placing" @close="placing = null" />
  </div>
</template>
