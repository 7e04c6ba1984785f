<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { client, take } from '../api/client'
import Answer from '../components/Answer.vue'
import CostSums from '../components/CostSums.vue'
import PageHead from '../components/PageHead.vue'
import { bytes } from '../composables/format'

/** What sources cost destinations a day, and what a draft that was tried would make of it. */
const route = useRoute()
const router = useRouter()
const since = computed(() => (route.query.since as string | undefined) ?? '24h')
const draft = computed(() => Number(route.query.draft ?? 0) || undefined)
const { data, isPending, error } = useQuery({
  queryKey: ['cost', since, draft],
  queryFn: () =>
    take(client.GET('/cost', { params: { query: { since: since.value, draft: draft.value } } })),
})
const size = (n: number) => bytes(Math.round(n))
const share = (then: number, now: number) =>
  now ? `${then >= now ? '+' : '−'}${Math.round((100 * Math.abs(then - now)) / now)} %` : 'new'
const money = (n: number, currency?: string) =>
  n && currency
    ? `${n.toLocaleString('en', { minimumFractionDigits: 2, maximumFractionDigits: 2 })} ${currency}`
    : ''
const madeFrom = computed(() => {
  const h = (data.value?.seconds ?? 0) / 3600
  return h < 1 ? `${Math.round(h * 60)} minutes` : `${Math.round(h)} hours`
})
</script>

<template>
  <PageHead title="Cost" back="Flow" back-to="/flow">
    <p class="text-soft">
      What each source costs each destination in a day: read before its steps, sent after them and
      before compression.
    </p>
    <template #actions>
      <label class="text-table"
        >Made from
        <select
          class="field !h-8"
          :value="since"
          @change="
            router.replace({
              query: { ...route.query, since: ($event.target as HTMLSelectElement).value },
            })
          "
        >
          <option value="1h">the last hour</option>
          <option value="24h">24 hours</option>
          <option value="7d">7 days</option>
          <option value="30d">30 days</option>
        </select></label
      >
    </template>
  </PageHead>
  <Answer :pending="isPending" :error="error" what="The cost">
    <p v-if="!data?.sources.length" class="text-soft">Nothing was counted in this span.</p>
    <template v-else>
      <p class="mb-4 text-table text-soft">
        A day is made from {{ madeFrom }} of what was measured<template v-if="draft"
          >; the forecast comes from trial {{ data.trial }} of draft {{ draft }}</template
        >.
      </p>
      <div class="mb-8 grid gap-x-12 gap-y-8 md:grid-cols-2">
        <CostSums title="Destinations" :list="data.destinations" link="/catalogue/destination/" />
        <CostSums v-for="l in data.labels" :key="l.key" :title="`By ${l.key}`" :list="l.values" />
      </div>
      <h2 class="mb-3 text-section font-semibold">Sources</h2>
      <div class="overflow-x-auto">
        <table class="grid-table">
          <thead>
            <tr>
              <th>Source</th>
              <th class="!text-right">Read</th>
              <th>Destination</th>
              <th class="!text-right">Sent</th>
              <th v-if="draft" class="!text-right">By the draft</th>
              <th class="!text-right">Money</th>
            </tr>
          </thead>
          <tbody v-for="s in data.sources" :key="s.source">
            <tr v-for="(t, i) in s.to.length ? s.to : [undefined]" :key="t?.destination ?? ''">
              <td>
                <router-link
                  v-if="!i"
                  class="link machine"
                  :to="`/catalogue/source/${s.source}/numbers`"
                  >{{ s.source }}</router-link
                >
              </td>
              <td class="num">{{ i ? '' : size(s.read) }}</td>
              <td class="machine">{{ t?.destination ?? '–' }}</td>
              <td class="num">{{ t ? size(t.sent) : '' }}</td>
              <td v-if="draft" class="num">
                <template v-if="t?.then !== undefined"
                  >{{ size(t.then) }}
                  <span class="text-soft">{{ share(t.then, t.sent) }}</span></template
                >
              </td>
              <td class="num">{{ t ? money(t.money, t.currency) : '' }}</td>
            </tr>
          </tbody>
        </table>
      </div>
    </template>
  </Answer>
</template>
