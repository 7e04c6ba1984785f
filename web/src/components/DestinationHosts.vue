<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Schemas } from '../api/client'
import { ago, bytes, inTime, number, plural, sentence } from '../composables/format'
import Facts from './Facts.vue'
import StateMark from './StateMark.vue'

/** A destination as a whole, and on each host that feeds it, those with trouble first. */
const props = defineProps<{ detail: Schemas['DestinationDetail'] }>()
const shown = ref(100)
const s = computed(() => props.detail.state)
const waits = (n: Schemas['DestinationNumbers']) => n.onDisk + n.inMemory
const facts = computed(() =>
  [
    { name: 'Delivers', value: [s.value.kind, s.value.address].filter(Boolean).join(' to ') },
    { name: 'Sources', value: s.value.sources.join(', '), machine: true },
    {
      name: 'Waits',
      value: waits(s.value.numbers)
        ? `${plural(waits(s.value.numbers), 'record')}, ${bytes(s.value.numbers.diskBytes)} on disk`
        : 'nothing',
    },
    {
      name: 'The oldest',
      value: s.value.numbers.oldest && `was read ${ago(s.value.numbers.oldest)}`,
    },
    { name: 'Buffers', value: s.value.room && `${bytes(s.value.room)} on all hosts` },
    { name: 'The first is full', value: s.value.fullIn && inTime(s.value.fullIn) },
    {
      name: 'Acknowledged',
      value: `${number(s.value.numbers.acknowledged)}, ${Math.round(s.value.rate)} a second now`,
    },
    { name: 'Given up', value: s.value.numbers.discarded && number(s.value.numbers.discarded) },
    {
      name: 'Answers in 5 min',
      value: Object.entries(s.value.answers)
        .sort((a, b) => b[1] - a[1])
        .map(([kind, n]) => `${number(n)} × ${kind}`)
        .join(', '),
    },
  ].map((f) => ({ ...f, value: f.value ? String(f.value) : undefined })),
)
const state = (h: Schemas['DestinationHost']): Schemas['State'] =>
  !h.connected ? 'offline' : h.code ? 'degraded' : 'healthy'
</script>

<template>
  <ul v-if="s.states.length" class="mb-6 border-t border-line">
    <li
      v-for="t in s.states"
      :key="t.code"
      class="grid items-baseline gap-x-4 border-b border-line py-2 md:grid-cols-[7rem_8rem_1fr]"
    >
      <StateMark state="degraded" />
      <span>{{ plural(t.hosts, 'host') }}</span>
      <div class="min-w-0 break-words">
        <p>
          {{ sentence(t.reason)
          }}<span v-if="t.since" class="text-soft"> (since {{ ago(t.since) }})</span>
        </p>
        <p v-if="t.todo" class="text-soft">{{ sentence(t.todo) }}</p>
      </div>
    </li>
  </ul>
  <Facts :items="facts" />
  <p v-if="!detail.items.length" class="mt-6 text-soft">No host delivers to it yet.</p>
  <div v-else class="mt-8 overflow-x-auto">
    <table class="grid-table">
      <thead>
        <tr>
          <th>State</th>
          <th>Host</th>
          <th class="!text-right">Waits</th>
          <th class="!text-right">On disk</th>
          <th>The oldest</th>
          <th>Full</th>
          <th class="!text-right">Rejects</th>
          <th class="!text-right">Given up</th>
          <th class="!text-right">Acknowledged</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="h in detail.items.slice(0, shown)" :key="h.host">
          <td><StateMark :state="state(h)" /></td>
          <td>
            <router-link :to="`/hosts/${h.host}`" class="link machine">{{ h.host }}</router-link>
            <p v-if="h.reason" class="max-w-[30rem] break-words">{{ sentence(h.reason) }}</p>
          </td>
          <td class="num">{{ number(waits(h.numbers)) }}</td>
          <td class="num">{{ h.numbers.onDisk ? bytes(h.numbers.diskBytes) : '–' }}</td>
          <td class="whitespace-nowrap">{{ ago(h.numbers.oldest) }}</td>
          <td class="whitespace-nowrap">{{ inTime(h.fullIn) }}</td>
          <td class="num">{{ number(h.rejects) }}</td>
          <td class="num">{{ number(h.numbers.discarded) }}</td>
          <td class="num">{{ number(h.numbers.acknowledged) }}</td>
        </tr>
      </tbody>
    </table>
    <button
      v-if="detail.items.length > shown"
      type="button"
      class="button quiet mt-3"
      @click="shown += 500"
    >
      Show more of {{ plural(detail.items.length, 'host') }}
    </button>
  </div>
</template>
