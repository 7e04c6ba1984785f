<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { plural } from '../composables/format'
import Marked from './Marked.vue'
import type { Row, Tried } from '../composables/workbench'

/** The records as a table with typed columns; those that were not read come first. Only the rows in sight are drawn. */
const props = defineProps<{ tried: Tried; without: string }>() // without the field that is the time
const at = defineModel<number>({ required: true }) // line of the record that is looked at
const height = 32
const sight = 11
const shownColumns = 7
const told = ['time', 'timestamp', 'ts', '@timestamp', 'datetime', 'level', 'severity', 'lvl'] // by the columns before
const box = ref<HTMLElement>()
const top = ref(0)
const rows = computed(() => {
  const grade = (r: Row) => (!r.read ? 0 : r.dropped ? 2 : 1)
  return props.tried.records
    .map((r, i) => ({ r, i }))
    .sort((a, b) => Number(grade(a.r) > 0) - Number(grade(b.r) > 0) || a.i - b.i)
    .map((x) => x.r)
})
const withBody = computed(() => props.tried.columns.length < 3)
const columns = computed(() =>
  props.tried.columns
    .filter((c) => c.name !== props.without && !told.includes(c.name))
    .sort((a, b) => b.share - a.share)
    .slice(0, shownColumns),
)
const more = computed(
  () =>
    props.tried.columns.filter((c) => c.name !== props.without && !told.includes(c.name)).length -
    columns.value.length,
)
const from = computed(() => Math.max(0, Math.floor(top.value / height) - 4))
const seen = computed(() => rows.value.slice(from.value, from.value + sight + 12))
const chosen = computed(() => rows.value.findIndex((r) => r.line === at.value))
const noDropped = computed(() =>
  props.tried.records.every(
    (r) => !r.dropped && (r.to ?? []).join() === (props.tried.records[0]?.to ?? []).join(),
  ),
)

watch(
  rows,
  (now) => {
    if (!now.some((r) => r.line === at.value)) at.value = now[0]?.line ?? 0
  },
  { immediate: true },
)

function move(e: KeyboardEvent) {
  const step = {
    ArrowDown: 1,
    ArrowUp: -1,
    PageDown: sight,
    PageUp: -sight,
    Home: -rows.value.length,
    End: rows.value.length,
  }[e.key]
  if (!step) return
  e.preventDefault()
  const next = Math.min(Math.max(chosen.value + step, 0), rows.value.length - 1)
  at.value = rows.value[next]?.line ?? 0
  const y = next * height
  if (box.value && (y < box.value.scrollTop || y > box.value.scrollTop + (sight - 2) * height))
    box.value.scrollTop = y - 3 * height
}
const shown = (v: unknown) =>
  v !== null && typeof v === 'object' ? JSON.stringify(v) : String(v ?? '')
const time = (r: Row) => (r.time ?? '').replace('T', ' ').replace(/(\.\d{3})\d+Z$/, '$1Z')
const masked = (r: Row, name: string) => (r.marks ?? []).filter((m) => m.in === name)
</script>

<template>
  <div
    ref="box"
    tabindex="0"
    class="overflow-auto rounded-md border border-line bg-sheet"
    :style="{ maxHeight: `${(sight + 1) * height}px` }"
    role="grid"
    :aria-rowcount="rows.length"
    aria-label="Records"
    @scroll="top = box?.scrollTop ?? 0"
    @keydown="move"
  >
    <table class="grid-table !w-max min-w-full">
      <thead>
        <tr>
          <th class="!bg-sheet pl-3 !text-right">Line</th>
          <th class="!bg-sheet">Time, UTC</th>
          <th class="!bg-sheet">Level</th>
          <th
            v-for="c in columns"
            :key="c.name"
            class="!bg-sheet"
            :class="{ '!text-right': c.type === 'int' || c.type === 'float' }"
          >
            <span class="machine text-ink">{{ c.name }}</span>
            <span class="font-normal" :class="`type-${c.type}`">{{ c.type }}</span>
          </th>
          <th v-if="withBody" class="!bg-sheet">Body</th>
          <th class="!bg-sheet">{{ noDropped ? 'Goes to' : 'What becomes of it' }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-if="from" :style="{ height: `${from * height}px` }" aria-hidden="true">
          <td class="!p-0" />
        </tr>
        <tr
          v-for="r in seen"
          :key="r.line"
          :aria-selected="r.line === at"
          class="cursor-pointer hover:bg-sunk"
          :class="{ 'bg-sunk': r.line === at }"
          @click="at = r.line"
        >
          <td class="num pl-3">{{ r.line }}</td>
          <template v-if="r.read">
            <td
              class="machine whitespace-nowrap"
              :class="{ 'text-degraded': r.timeNote, 'line-through': r.dropped }"
            >
              {{ time(r) }}<span v-if="r.timeNote"> ▲ {{ r.timeNote }}</span>
            </td>
            <td class="machine" :class="{ 'line-through': r.dropped }">{{ r.level }}</td>
            <td
              v-for="c in columns"
              :key="c.name"
              class="machine max-w-[16rem] truncate"
              :class="[
                `type-${c.type}`,
                { 'text-right': c.type === 'int' || c.type === 'float', 'line-through': r.dropped },
              ]"
              :title="shown(r.fields[c.name])"
            >
              <Marked
                v-if="masked(r, c.name).length"
                class="!whitespace-nowrap"
                :text="shown(r.fields[c.name])"
                :marks="masked(r, c.name)"
              /><template v-else>{{ shown(r.fields[c.name]) }}</template>
            </td>
            <td
              v-if="withBody"
              class="machine max-w-[32rem] truncate"
              :class="{ 'line-through': r.dropped }"
            >
              {{ r.body }}
            </td>
          </template>
          <td
            v-else
            :colspan="columns.length + (withBody ? 3 : 2)"
            class="machine max-w-[40rem] truncate"
          >
            <span class="text-failing">✖ not read</span>
            <span v-if="r.private?.length" class="masked">masked</span>
            {{ r.private?.length ? r.body : (r.original ?? r.body) }}
          </td>
          <td class="whitespace-nowrap">
            <span v-if="r.dropped" class="text-degraded">✖ {{ r.dropped }}</span
            ><span v-else class="machine">{{ (r.to ?? []).join(', ') }}</span>
          </td>
        </tr>
        <tr
          v-if="rows.length > from + seen.length"
          :style="{ height: `${(rows.length - from - seen.length) * height}px` }"
          aria-hidden="true"
        >
          <td class="!p-0" />
        </tr>
      </tbody>
    </table>
  </div>
  <p v-if="more > 0" class="mt-1 text-table text-soft">
    {{ plural(more, 'more field') }}; a record shows all of its own.
  </p>
</template>
