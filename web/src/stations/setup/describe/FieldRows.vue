<script setup lang="ts">
/** Our fields, each with its place in the answer, what stands there in the row that is looked at, and what it is to us. */
import { computed } from 'vue'
import type { Schema } from '@/api/client'
import { fieldOf, kept, pairsOf, pairsText, type FieldRead } from './description'
import type { FieldShape } from './draft'

const props = defineProps<{ shapes: FieldShape[]; cells?: Record<string, Schema<'ReadCell'>>; inner?: boolean }>()
const model = defineModel<Record<string, FieldRead | string>>()
const emit = defineEmits<{ change: [] }>()
const rows = computed(() =>
  props.shapes.map((shape) => ({ shape, read: fieldOf(model.value?.[shape.name]), cell: props.cells?.[shape.name] })),
)
function put(name: string, part: FieldRead) {
  const now = { ...model.value }
  const next = kept({ ...fieldOf(now[name]), ...part })
  if (next === undefined) delete now[name]
  else now[name] = next
  model.value = now
  emit('change')
}
const isRows = (shape: FieldShape) => shape.type === 'rows' || shape.type === 'one'
const always = (read: FieldRead) => read.value !== undefined
const typed = (event: Event) => (event.target as HTMLInputElement).value
const TYPES: Record<string, string> = {
  money: 'an amount',
  whole: 'a whole number',
  percent: 'percent',
  decimal: 'a number',
  time: 'a moment',
  date: 'a day',
  flag: 'yes or no',
  texts: 'a list',
  file: 'a file',
}
</script>

<template>
  <div @input.stop @change.stop>
    <template v-for="{ shape, read, cell } in rows" :key="shape.name">
      <div
        class="grid items-center gap-2 border-t border-rule-2 py-1"
        style="grid-template-columns: 168px 190px 88px minmax(0, 1fr)"
        :class="inner && 'pl-4'"
      >
        <span class="min-w-0" :title="shape.about"
          ><span class="block truncate" :class="shape.needed && 'font-semibold'">{{ shape.about }}</span
          ><span v-if="TYPES[shape.type]" class="block text-2xs text-soft"
            >{{ TYPES[shape.type] }}{{ shape.needed ? ', needed' : '' }}</span
          ></span
        >
        <input
          class="field code py-0.5!"
          :data-place="shape.name"
          :value="isRows(shape) ? read.rows || read.at : always(read) ? read.value : read.at"
          :aria-label="always(read) ? `${shape.about}, always` : `Where is: ${shape.about}`"
          :placeholder="isRows(shape) ? 'where its rows are' : ''"
          maxlength="2000"
          :aria-invalid="shape.needed && !read.at && read.value === undefined && !isRows(shape)"
          @input="
            put(
              shape.name,
              isRows(shape) ? { rows: typed($event), at: '' } : always(read) ? { value: typed($event) } : { at: typed($event) },
            )
          "
        />
        <label v-if="!isRows(shape)" class="flex items-center gap-1.5 text-xs text-soft"
          ><input
            type="checkbox"
            class="accent-pine"
            :checked="always(read)"
            :aria-label="`${shape.about}: always the same`"
            @change="put(shape.name, always(read) ? { value: undefined, at: read.value } : { value: read.at ?? '', at: undefined })"
          />always</label
        ><span v-else />
        <span class="min-w-0 truncate text-xs">
          <template v-if="cell">
            <span v-if="cell.fault && !(cell.fault.includes('does not say') && !shape.needed)" class="text-brick" :title="cell.fault"
              ><span v-if="cell.raw" class="code">{{ cell.raw }}</span> {{ cell.fault }}</span
            ><template v-else-if="cell.raw || cell.value"
              ><span class="code text-soft" :title="cell.raw">{{ cell.raw.slice(0, 60) }}</span
              ><template v-if="cell.value && cell.value !== cell.raw">
                → <b :title="cell.value">{{ cell.value }}</b></template
              ></template
            ><span v-else-if="read.at || read.rows" class="text-soft">nothing there</span>
          </template>
        </span>
      </div>
      <label v-if="shape.codes.length && (read.at || read.codes)" class="flex items-center gap-2 py-1 pl-4 text-xs"
        ><span class="w-[160px] shrink-0 text-soft">its words = {{ shape.codes.filter(Boolean).join(', ') }}</span
        ><input
          class="field code py-0.5!"
          :value="pairsText(read.codes)"
          placeholder="none: it uses ours"
          :aria-label="`What its words mean: ${shape.about}`"
          maxlength="2000"
          @change="put(shape.name, { codes: pairsOf(typed($event)) })"
      /></label>
      <FieldRows
        v-if="isRows(shape) && (read.rows || read.at)"
        :shapes="shape.fields"
        :model-value="read.fields"
        inner
        @update:model-value="(fields) => put(shape.name, { fields })"
      />
    </template>
  </div>
</template>
