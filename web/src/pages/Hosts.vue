<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import type { Schemas } from '../api/client'
import { useHosts, type HostFilter } from '../api/queries'
import Answer from '../components/Answer.vue'
import ImportDialog from '../components/ImportDialog.vue'
import Labels from '../components/Labels.vue'
import PageHead from '../components/PageHead.vue'
import StateCounts from '../components/StateCounts.vue'
import StateMark from '../components/StateMark.vue'
import { ago, number } from '../composables/format'
import { rowKeys } from '../composables/rows'

const route = useRoute()
const importing = ref(false)
const router = useRouter()
const text = ref(typeof route.query.q === 'string' ? route.query.q : '')
watch(text, (q) => router.replace({ query: { ...route.query, q: q || undefined } }))

/** The filter box takes part of a name and KEY=VALUE labels, in any order. */
const filter = computed<HostFilter>(() => {
  const words = text.value.split(/\s+/).filter(Boolean)
  return {
    q: words.filter((w) => !w.includes('=')).join(' ') || undefined,
    label: words.filter((w) => w.includes('=')),
    state: route.query.state as Schemas['State'] | undefined,
    retired: route.query.retired ? true : undefined,
  }
})
const { data, isPending, error } = useHosts(filter)
const rank = { failing: 0, offline: 1, degraded: 2, waiting: 3, healthy: 4 }
type Key = 'name' | 'state' | 'revision' | 'read' | 'acknowledged' | 'lastRecord'
const sort = computed(() => (route.query.sort as Key | undefined) ?? 'state')
const rows = computed(() =>
  [...(data.value?.items ?? [])].sort((a, b) => {
    switch (sort.value) {
      case 'name': return a.name.localeCompare(b.name)
      case 'state': return rank[a.verdict.state] - rank[b.verdict.state] || a.name.localeCompare(b.name)
      case 'lastRecord': return (a.lastRecord ?? '').localeCompare(b.lastRecord ?? '')
      default: return b[sort.value] - a[sort.value]
    }
  }),
)
const heads: { key?: Key; word: string; num?: boolean }[] = [
  { key: 'state', word: 'State' }, { key: 'name', word: 'Host' }, { key: 'revision', word: 'Revision', num: true },
  { key: 'read', word: 'Read', num: true }, { key: 'acknowledged', word: 'Acknowledged', num: true }, { key: 'lastRecord', word: 'Last record' }, { word: 'Labels' },
]
const open = (name: string) => router.push(`/hosts/${name}`)
</script>

<template>
  <PageHead :title="filter.retired ? 'Retired hosts' : 'Hosts'">
    <router-link :to="filter.retired ? '/hosts' : '/hosts?retired=yes'" class="link text-table">{{ filter.retired ? 'Back to the fleet' : 'Retired hosts' }}</router-link>
    <template #actions><button class="button quiet" @click="importing = true">Import…</button></template>
  </PageHead>
  <ImportDialog v-model="importing" />
  <div class="mb-4 flex flex-wrap items-center gap-4">
    <input v-model="text" type="search" class="field w-80" placeholder="Part of a name, or site=northpier" aria-label="Filter hosts by name or label" />
    <StateCounts v-if="data" :counts="data.states" base="/hosts" :chosen="filter.state" />
  </div>
  <Answer :pending="isPending" :error="error" what="The hosts">
    <p v-if="!rows.length && filter.retired" class="text-soft">No host is retired.</p>
    <p v-else-if="!rows.length && !text && !filter.state" class="text-soft">No host has joined yet. Make a token with <span class="machine text-ink">synaxis join-token create</span> and start an agent with it.</p>
    <p v-else-if="!rows.length" class="text-soft">No host fits the filter. <router-link to="/hosts" class="link" @click="text = ''">Show all</router-link></p>
    <div v-else class="overflow-x-auto">
      <table class="grid-table">
        <thead>
          <tr>
            <th v-for="h in heads" :key="h.word" :class="{ '!text-right': h.num }" :aria-sort="h.key === sort ? 'ascending' : undefined">
              <router-link v-if="h.key" :to="{ query: { ...route.query, sort: h.key } }" class="hover:text-accent">{{ h.word }}<span v-if="h.key === sort" aria-hidden="true"> ↓</span></router-link>
              <template v-else>{{ h.word }}</template>
            </th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="h in rows" :key="h.name" tabindex="0" @click="open(h.name)" @keydown="rowKeys($event, () => open(h.name))">
            <td><StateMark :state="h.verdict.state" /></td>
            <td class="machine font-medium">{{ h.name }}<p v-if="h.verdict.state !== 'healthy'" class="max-w-[22rem] truncate first-letter:uppercase font-sans font-normal text-soft" :title="h.verdict.reason">{{ h.verdict.reason }}</p></td>
            <td class="num">{{ h.revision || '–' }}<span v-if="h.pending" class="ml-1 text-waiting" :title="`pending: ${h.pending}`">+{{ h.pending }}</span></td>
            <td class="num">{{ number(h.read) }}</td>
            <td class="num">{{ number(h.acknowledged) }}</td>
            <td class="whitespace-nowrap">{{ ago(h.lastRecord) }}</td>
            <td class="min-w-[17rem]"><Labels :of="h.labels" /></td>
          </tr>
        </tbody>
      </table>
      <p v-if="data?.next" class="mt-3 text-soft">The first {{ rows.length }} are shown. Narrow the filter to see others.</p>
    </div>
  </Answer>
</template>
