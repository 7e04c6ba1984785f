<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { client, take, type Schemas } from '../api/client'
import Answer from '../components/Answer.vue'
import FlowPicture from '../components/FlowPicture.vue'
import PageHead from '../components/PageHead.vue'
import StateMark from '../components/StateMark.vue'
import { picture, type Measure } from '../composables/flow'
import { bytes, number } from '../composables/format'

/** What went from sites through sources to destinations, as a picture and as a list. */
const route = useRoute()
const router = useRouter()
const since = computed(() => (route.query.since as string | undefined) ?? '1h')
const measure = computed<Measure>(() => (route.query.by === 'bytes' ? 'bytes' : 'records'))
const set = (query: Record<string, string>) =>
  router.replace({ query: { ...route.query, ...query } })
const { data, isPending, error } = useQuery({
  queryKey: ['flow', since],
  queryFn: () => take(client.GET('/flow', { params: { query: { since: since.value } } })),
})
const shown = computed(() => data.value && picture(data.value, measure.value, 24))
const state = (kind: string, name: string) =>
  data.value?.nodes.find((n) => n.kind === kind && n.name === name)?.state ?? 'waiting'
interface Row {
  source: string
  read: Schemas['FlowEdge']
  to: Map<string, Schemas['FlowEdge']>
}
const rows = computed(() => {
  const of = new Map<string, Row>()
  const none = { site: '', records: 0, bytes: 0, dropped: 0, rejected: 0 }
  for (const e of data.value?.edges ?? []) {
    const r = of.get(e.source) ?? {
      source: e.source,
      read: { ...none, source: e.source, destination: '' },
      to: new Map<string, Schemas['FlowEdge']>(),
    }
    of.set(e.source, r)
    const sum = e.destination
      ? (r.to.get(e.destination) ?? { ...none, source: e.source, destination: e.destination })
      : r.read
    if (e.destination) r.to.set(e.destination, sum)
    sum.records += e.records
    sum.bytes += e.bytes
    sum.dropped += e.dropped
    sum.rejected += e.rejected
  }
  return [...of.values()].sort((a, b) => b.read[measure.value] - a.read[measure.value])
})
</script>

<template>
  <PageHead title="Flow">
    <p class="text-soft">What hosts read and destinations acknowledged, by site.</p>
    <template #actions>
      <router-link class="button quiet !h-8" to="/cost">What it costs</router-link>
      <label class="text-table"
        >Span
        <select
          class="field !h-8"
          :value="since"
          @change="set({ since: ($event.target as HTMLSelectElement).value })"
        >
          <option value="1h">1 hour</option>
          <option value="24h">24 hours</option>
          <option value="7d">7 days</option>
          <option value="30d">30 days</option>
        </select></label
      >
      <label class="text-table"
        >By
        <select
          class="field !h-8"
          :value="measure"
          @change="set({ by: ($event.target as HTMLSelectElement).value })"
        >
          <option value="records">records</option>
          <option value="bytes">bytes</option>
        </select></label
      >
    </template>
  </PageHead>
  <Answer :pending="isPending" :error="error" what="The flow">
    <p v-if="!rows.length" class="text-soft">
      Nothing was counted in this span. Records that hosts read appear here a minute later.
    </p>
    <template v-else>
      <div class="hidden md:block">
        <div class="relative mb-2 h-5 text-table font-medium text-soft">
          <span class="absolute right-[82.7%]">Sites</span
          ><span class="absolute left-[47.1%]">Sources</span
          ><span class="absolute left-[76.9%]">Destinations</span>
        </div>
        <FlowPicture v-if="shown" :of="shown" :measure="measure" />
      </div>
      <h2 class="mt-10 mb-3 text-section font-semibold">The same as a list</h2>
      <div class="overflow-x-auto">
        <table class="grid-table">
          <thead>
            <tr>
              <th>Source</th>
              <th>Destination</th>
              <th class="!text-right">Records</th>
              <th class="!text-right">Bytes</th>
              <th class="!text-right">Dropped or refused</th>
            </tr>
          </thead>
          <tbody v-for="r in rows" :key="r.source">
            <tr>
              <td>
                <span class="flex items-center gap-2"
                  ><StateMark :state="state('source', r.source)" bare /><router-link
                    class="link machine"
                    :to="`/catalogue/source/${r.source}/numbers`"
                    >{{ r.source }}</router-link
                  ></span
                >
              </td>
              <td class="text-soft">read</td>
              <td class="num">{{ number(r.read.records) }}</td>
              <td class="num">{{ bytes(r.read.bytes) }}</td>
              <td class="num">{{ r.read.dropped ? number(r.read.dropped) : '' }}</td>
            </tr>
            <tr v-for="[name, e] in r.to" :key="name">
              <td />
              <td>
                <span class="flex items-center gap-2"
                  ><StateMark :state="state('destination', name)" bare /><router-link
                    class="link machine"
                    :to="`/catalogue/destination/${name}`"
                    >{{ name }}</router-link
                  ></span
                >
              </td>
              <td class="num">{{ number(e.records) }}</td>
              <td class="num">{{ bytes(e.bytes) }}</td>
              <td class="num">{{ e.rejected ? number(e.rejected) : '' }}</td>
            </tr>
          </tbody>
        </table>
      </div>
    </template>
  </Answer>
</template>
