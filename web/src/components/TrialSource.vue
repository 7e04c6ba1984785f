<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { bytes, number, plural } from '../composables/format'

/** One source both ways: what its counts, destinations, fields and records are now, and would be then. */
const props = defineProps<{ source: Schemas['TrialSource'] }>()
type Side = Schemas['TrialSide']
const state = computed(() => {
  const s = props.source
  if (!s.now) return { mark: '+', look: 'text-healthy', words: 'is new' }
  if (!s.then) return { mark: '−', look: 'text-degraded', words: 'goes away' }
  if (s.differ)
    return {
      mark: '▲',
      look: 'text-degraded',
      words: `${plural(s.differ, 'record')} ${s.differ === 1 ? 'comes' : 'come'} out differently`,
    }
  if (!s.now.read) return { mark: '○', look: 'text-soft', words: 'no record came' }
  return { mark: '●', look: 'text-healthy', words: 'all records come out the same' }
})
const rows = computed(() => {
  const { now, then } = props.source
  const keys = (of: (s: Side) => object) =>
    [...new Set([now, then].flatMap((s) => (s ? Object.keys(of(s)) : [])))].sort()
  const row = (name: string, of: (s: Side) => string) => ({
    name,
    now: now ? of(now) : '–',
    then: then ? of(then) : '–',
  })
  return [
    row('Read', (s) => number(s.read)),
    row('Not parsed', (s) => number(s.unparsed)),
    row('Dropped', (s) => number(s.dropped)),
    row('Masked', (s) => number(s.masked)),
    row('Without a zone', (s) => number(s.noZone)),
    row('Conditions that failed', (s) => number(s.failed)),
    ...keys((s) => s.destinations).map((to) =>
      row(`To ${to}`, (s) => {
        const d = s.destinations[to]
        return d ? `${number(d.records)}, ${bytes(d.bytes)}` : 'none'
      }),
    ),
    ...keys((s) => s.levels).map((l) =>
      row(l || 'Without a level', (s) => number(s.levels[l] ?? 0)),
    ),
    row('µs of a core each', (s) => s.microsecondsEach.toFixed(1)),
  ].filter((r) => r.now !== r.then || r.name === 'Read')
})
const types = (of: Record<string, number>) =>
  Object.entries(of)
    .map(([t, n]) => `${t} ${number(n)} times`)
    .join(', ')
const fieldWords = (f: Schemas['TrialField']) =>
  f.change === 'appears'
    ? `appears: ${types(f.then)}`
    : f.change === 'vanishes'
      ? `vanishes: ${types(f.now)}`
      : `changes its type: ${types(f.now)}, then ${types(f.then)}`
const mark = { appears: '+', vanishes: '−', type: '▲' }
</script>

<template>
  <section class="border-t border-line py-4">
    <h3 class="mb-2 font-medium">
      <span :class="state.look" aria-hidden="true" class="inline-block w-5">{{
        state.mark
      }}</span><span class="machine">{{ source.name }}</span
      >: {{ state.words }}
      <span class="font-normal text-soft">on {{ plural(source.hosts, 'host') }}</span>
    </h3>
    <p v-for="n in source.notes" :key="n" class="ml-5 text-soft">{{ n }}</p>
    <template v-if="source.now || source.then">
      <table class="grid-table ml-5 max-w-[40rem]">
        <thead>
          <tr>
            <th></th>
            <th class="!text-right">Now</th>
            <th class="!text-right">Then</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="r in rows" :key="r.name">
            <td>{{ r.name }}</td>
            <td class="num">{{ r.now }}</td>
            <td class="num">{{ r.then }}</td>
          </tr>
        </tbody>
      </table>
      <ul v-if="source.fields.length" class="mt-3 ml-5">
        <li v-for="f in source.fields" :key="f.name">
          <span aria-hidden="true" class="inline-block w-5">{{ mark[f.change] }}</span>Field
          <span class="machine">{{ f.name }}</span> {{ fieldWords(f) }}
        </li>
      </ul>
      <div v-for="(e, i) in source.examples" :key="i" class="mt-4 ml-5 text-table">
        <p class="machine break-all">{{ e.body ?? (e.now || e.then) }}</p>
        <p v-if="!e.now || !e.then" class="text-soft">
          {{
            e.now ? 'Dropped then, or cut otherwise' : 'Only then: dropped now, or cut otherwise'
          }}
        </p>
        <dl v-else class="mt-1 grid grid-cols-[10rem_1fr] gap-x-4">
          <template v-for="d in e.differs" :key="d.part">
            <dt class="machine text-soft">{{ d.part }}</dt>
            <dd class="machine break-all">
              {{ d.now || 'none' }} <span class="text-soft">→</span> {{ d.then || 'none' }}
            </dd>
          </template>
        </dl>
      </div>
    </template>
  </section>
</template>
