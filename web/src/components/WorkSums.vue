<script setup lang="ts">
import { computed } from 'vue'
import { number, plural } from '../composables/format'
import { documents } from '../composables/documents'
import { unmasked } from '../composables/marks'
import { useWorkbench, type Tried } from '../composables/workbench'

/** The counts of a try, and the private data that the lines seem to hold. */
const props = defineProps<{ tried: Tried }>()
const { hits, took, busy, source, splice, part } = useWorkbench()
const facts = computed(() => {
  const t = props.tried
  const out: { word: string; bad?: boolean }[] = [{ word: `${plural(t.read, 'record')} read` }]
  if (t.unread) out.push({ word: `✖ ${number(t.unread)} not read`, bad: true })
  if (t.blank) out.push({ word: `${plural(t.blank, 'blank line')} skipped` })
  for (const [why, n] of Object.entries(t.dropReasons))
    out.push({ word: `${number(n)} dropped: ${why}` })
  for (const [to, n] of Object.entries(t.destinations)) out.push({ word: `${number(n)} to ${to}` })
  if (t.failed)
    out.push({
      word: `▲ ${number(t.failed)} conditions and values could not be computed`,
      bad: true,
    })
  if (t.noZone)
    out.push({ word: `▲ ${number(t.noZone)} times have no zone: choose one`, bad: true })
  return out
})
const found = computed(() => {
  const open = new Set(unmasked(props.tried.records, hits.value))
  const by = new Map<string, { all: number; open: number }>()
  for (const h of hits.value) {
    const name = h.detector || h.masks[0]!
    const c = by.get(name) ?? { all: 0, open: 0 }
    c.all++
    if (open.has(h)) c.open++
    by.set(name, c)
  }
  return [...by]
    .map(([detector, c]) => ({ detector, ...c }))
    .sort((a, b) => b.open - a.open || b.all - a.all)
})
const isSource = computed(() => documents(source.value)[0]?.kind === 'source')
async function mask(detector: string) {
  await splice(
    'source',
    /^steps:/m.test(source.value) ? ['steps', '#+'] : ['steps'],
    /^steps:/m.test(source.value) ? { mask: [detector] } : [{ mask: [detector] }],
  )
  part.value = 'source'
}
</script>

<template>
  <div class="mb-3 flex flex-wrap items-baseline gap-x-5 gap-y-1 text-table">
    <span v-for="f in facts" :key="f.word" :class="f.bad ? 'font-medium text-degraded' : ''">{{
      f.word
    }}</span>
    <span class="ml-auto text-soft" role="status"
      >{{ busy ? 'trying…' : `${plural(tried.records.length, 'record')} in ${took} ms`
      }}{{ tried.host ? `, as on ${tried.host}` : '' }}</span
    >
  </div>
  <div
    v-if="found.length"
    class="mb-3 flex flex-wrap items-center gap-2 rounded-md border border-line px-3 py-2 text-table"
  >
    <span class="font-medium">The lines seem to hold private data:</span>
    <template v-for="f in found" :key="f.detector">
      <button
        v-if="f.open && isSource"
        class="button quiet !h-7 !px-2 !text-degraded"
        :title="`Add a step that masks ${f.detector}`"
        @click="mask(f.detector)"
      >
        ▲ {{ number(f.open) }} {{ f.detector }} — mask it
      </button>
      <span v-else-if="f.open" class="text-degraded"
        >▲ {{ number(f.open) }} {{ f.detector }} not masked</span
      >
      <span v-else class="text-healthy">● {{ number(f.all) }} {{ f.detector }} masked</span>
    </template>
  </div>
</template>
