<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { client, take } from '../api/client'
import { amount, unitOf } from '../composables/chart'
import { moment, sentence } from '../composables/format'
import Answer from './Answer.vue'
import NumberChart from './NumberChart.vue'
import NumberExplain from './NumberExplain.vue'

/** What was counted over time of a host, source or destination. The span stands in the address. */
const props = defineProps<{ host?: string; source?: string; destination?: string; from?: string }>()
const route = useRoute()
const router = useRouter()
const spans = ['1h', '6h', '24h', '7d', '30d']
const one = (v: unknown) => (typeof v === 'string' && v ? v : undefined)
const span = computed(() => ({
  from: one(route.query.from) ?? (one(route.query.span) ? undefined : props.from),
  to: one(route.query.to),
  since: one(route.query.from) ? undefined : one(route.query.span),
}))
const pictures = computed(() => [
  { label: 'Records', numbers: ['read', 'unparsed', 'dropped', 'acknowledged'] },
  { label: 'Rejected and discarded', numbers: ['rejected', 'discarded'] },
  { label: 'Bytes', numbers: props.destination ? ['sent'] : ['bytes', 'sent'] },
  { label: 'Records that wait', numbers: ['waiting'] },
  { label: 'Age of the oldest record that waits', numbers: ['lag'] },
])
const asked = computed(() => ({
  source: props.source,
  destination: props.destination,
  hosts: props.host ? `host.name == ${JSON.stringify(props.host)}` : undefined,
  from: span.value.from,
  to: span.value.to,
  since: span.value.from ? undefined : (span.value.since ?? '6h'),
}))
const { data, isPending, error } = useQuery({
  queryKey: ['numbers', computed(() => ({ ...props })), span],
  queryFn: () =>
    take(
      client.GET('/numbers', {
        params: {
          query: { ...asked.value, number: pictures.value.flatMap((p) => p.numbers) },
        },
      }),
    ),
  refetchInterval: 30_000,
  placeholderData: (old) => old,
})
const { data: usual } = useQuery({
  queryKey: ['numbers', 'usual', computed(() => props.source)],
  queryFn: () =>
    take(client.GET('/sources/{source}/usual', { params: { path: { source: props.source! } } })),
  enabled: computed(() => !!props.source),
})
const shown = computed(() =>
  pictures.value
    .map((p) => ({
      ...p,
      unit: unitOf(p.numbers[0]!),
      lines: (data.value?.lines ?? []).filter((l) => p.numbers.includes(l.number)),
    }))
    .filter((p) => p.label === 'Records' || p.lines.some((l) => l.sum > 0)),
)
const choose = (from: number, to: number) =>
  router.replace({
    query: { from: new Date(from).toISOString(), to: new Date(to).toISOString() },
  })
</script>

<template>
  <nav class="mb-4 flex flex-wrap items-center gap-4" aria-label="Span">
    <router-link
      v-for="s in spans"
      :key="s"
      :to="{ query: { span: s } }"
      replace
      :class="(span.since ?? (span.from ? '' : '6h')) === s ? 'font-medium' : 'link'"
      >{{ s }}</router-link
    >
    <span v-if="data" class="text-table text-soft"
      >{{ moment(data.from) }} to {{ moment(data.to) }}; drag over a picture to look closer</span
    >
  </nav>
  <p v-if="usual" class="mb-4">{{ sentence(usual.words) }}.</p>
  <Answer :pending="isPending" :error="error" what="The numbers">
    <p v-if="data && !data.lines.length" class="text-soft">
      Nothing was counted in this time. Numbers come when hosts report, every 30 seconds at most.
    </p>
    <div v-else-if="data" class="grid gap-8">
      <NumberChart
        v-for="p in shown"
        :key="p.label"
        :numbers="data"
        :lines="p.lines"
        :label="p.label"
        :unit="p.unit"
        @span="choose"
      />
      <NumberExplain :numbers="pictures.flatMap((p) => p.numbers)" :query="asked" />
      <section v-if="data.marks.length">
        <h2 class="mb-2 text-section font-semibold">What changed</h2>
        <ul>
          <li
            v-for="(m, i) in data.marks"
            :key="i"
            class="grid gap-x-6 py-1 md:grid-cols-[16rem_1fr]"
          >
            <span class="machine text-soft">{{ moment(m.at) }}</span>
            <router-link v-if="m.rollout" class="link" :to="`/rollouts/${m.rollout}`">{{
              m.words
            }}</router-link><span v-else>{{ m.words }}</span>
          </li>
        </ul>
      </section>
      <table class="w-full text-table" aria-label="Sums">
        <tbody>
          <tr v-for="l in data.lines" :key="l.number" class="h-8 border-b border-line">
            <th class="text-left font-normal">{{ l.number }}</th>
            <td class="machine text-right">{{ amount(unitOf(l.number), l.sum) }}</td>
            <td class="pl-4 text-soft">{{ l.level ? 'the most' : 'in all' }}</td>
          </tr>
        </tbody>
      </table>
    </div>
  </Answer>
</template>
