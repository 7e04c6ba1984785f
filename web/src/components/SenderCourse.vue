<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { client, take, type Schemas } from '../api/client'
import { amount, unitOf } from '../composables/chart'
import Answer from './Answer.vue'
import NumberChart from './NumberChart.vue'

type Line = Schemas['NumberLine']

/** What came from a sender over time. */
const props = defineProps<{ source: string; name: string }>()
const numbers = [
  'read',
  'unparsed',
  'dropped',
  'dropped:*',
  'masked',
  'masked:*',
  'acknowledged',
  'rejected',
  'bytes',
  'sent',
  'waiting',
  'lag',
]
const drawn = ['read', 'unparsed', 'dropped', 'acknowledged', 'rejected']
const spans = ['1h', '24h', '7d', '30d']
const span = ref<{ since?: string; from?: string; to?: string }>({ since: '1h' })
const { data, isPending, error } = useQuery({
  queryKey: ['numbers', 'sender', computed(() => ({ ...props })), span],
  queryFn: () =>
    take(
      client.GET('/numbers', {
        params: {
          query: {
            by: 'sender',
            source: props.source,
            number: numbers,
            ...span.value,
          },
        },
      }),
    ),
  refetchInterval: 30_000,
  placeholderData: (old) => old,
})
const lines = computed(() => (data.value?.lines ?? []).filter((l) => l.group === props.name))
/** Of what can go wrong only what did is drawn. */
const chart = computed(() =>
  lines.value.filter((l) => l.number === 'read' || (drawn.includes(l.number) && l.sum > 0)),
)
const said = (l: Line) => `${l.number} ${amount(unitOf(l.number), l.sum)}`
/** A number with its parts by reason or by mask. */
function whole(l: Line): string {
  const parts = lines.value.filter((p) => p.number.startsWith(l.number + ':'))
  const names = parts.map((p) => said({ ...p, number: p.number.slice(l.number.length + 1) }))
  return said(l) + (names.length ? ` (${names.join(', ')})` : '')
}
const happened = computed(() => lines.value.filter((l) => l.number === 'read' || l.sum > 0))
const sums = computed(() =>
  happened.value
    .filter((l) => !l.level && !l.number.includes(':'))
    .map(whole)
    .join(', '),
)
const most = computed(() =>
  happened.value
    .filter((l) => l.level)
    .map(said)
    .join(', '),
)
const choose = (from: number, to: number) => {
  span.value = { from: new Date(from).toISOString(), to: new Date(to).toISOString() }
}
</script>

<template>
  <nav class="mt-4 mb-2 flex gap-4" aria-label="Span">
    <button
      v-for="s in spans"
      :key="s"
      type="button"
      :class="span.since === s ? 'font-medium' : 'link'"
      :aria-pressed="span.since === s"
      @click="span = { since: s }"
    >
      {{ s }}
    </button>
  </nav>
  <Answer :pending="isPending" :error="error" what="The numbers">
    <p v-if="data && !lines.length" class="text-soft">Nothing of it was counted in this time.</p>
    <template v-else-if="data">
      <NumberChart
        :numbers="data"
        :lines="chart"
        :label="`Records of ${name}`"
        unit="count"
        @span="choose"
      />
      <p class="mt-1 text-table text-soft">In all: {{ sums }}.{{ most && ` At most: ${most}.` }}</p>
    </template>
  </Answer>
</template>
