<script setup lang="ts">
import { computed, ref } from 'vue'
import { client, take } from '../api/client'
import { useHost } from '../api/queries'
import Answer from '../components/Answer.vue'
import BulkEdit from '../components/BulkEdit.vue'
import Facts from '../components/Facts.vue'
import HostConfig from '../components/HostConfig.vue'
import HostExplain from '../components/HostExplain.vue'
import HostHistory from '../components/HostHistory.vue'
import HostLogs from '../components/HostLogs.vue'
import HostSources from '../components/HostSources.vue'
import Labels from '../components/Labels.vue'
import NumberCharts from '../components/NumberCharts.vue'
import PageHead from '../components/PageHead.vue'
import ConfirmDialog from '../components/ConfirmDialog.vue'
import RetireDialog from '../components/RetireDialog.vue'
import StateMark from '../components/StateMark.vue'
import Tabs from '../components/Tabs.vue'
import { ago, moment, sentence, until } from '../composables/format'

const props = defineProps<{ host: string; tab?: string }>()
const { data: h, isPending, error } = useHost(() => props.host)
const retiring = ref(false)
const editing = ref(false)
const what = ref<'labels' | 'settings'>('labels')
const edit = (of: 'labels' | 'settings') => {
  what.value = of
  editing.value = true
}
const letting = ref(false)
const letGo = async () => {
  await take(client.POST('/hosts/{host}/let-go', { params: { path: { host: props.host } } }))
}
const current = computed(() => props.tab || 'sources')
const facts = computed(() => {
  const v = h.value
  if (!v) return []
  const o = v.observed
  const load = v.cpuShare === undefined ? '' : `, uses ${(v.cpuShare * 100).toFixed(1)} % of a core`
  return [
    {
      name: 'Revision',
      value: v.revision ? `${v.revision}${v.pending ? `, pending: ${v.pending}` : ''}` : 'none',
    },
    {
      name: 'Pinned',
      value: v.pinned ? `by rollout ${v.pinned}; other rollouts leave it out` : undefined,
    },
    {
      name: 'System',
      value: [o['os.description'], [o['os.type'], o['host.arch']].filter(Boolean).join('/')]
        .filter(Boolean)
        .join(', '),
    },
    { name: 'Agent', value: v.agentVersion && `${v.agentVersion} over ${v.transport}${load}` },
    { name: 'Addresses', value: o['host.ip'], machine: true },
    { name: 'Last seen', value: v.lastSeen && `${ago(v.lastSeen)}`, title: moment(v.lastSeen) },
    { name: 'Joined', value: v.joinedAt && moment(v.joinedAt) },
  ]
})
const observed = computed(() =>
  Object.entries(h.value?.observed ?? {})
    .sort()
    .map(([name, value]) => ({ name, value, machine: true })),
)
</script>

<template>
  <PageHead :title="host" back="Hosts" back-to="/hosts" machine>
    <template v-if="h && h.verdict.code !== 'retired'" #actions
      ><button v-if="h?.pinned" class="button quiet" @click="letting = true">Let it go…</button>
      <button class="button quiet" @click="retiring = true">Retire…</button></template
    >
  </PageHead>
  <ConfirmDialog
    v-if="letting"
    title="Let it go?"
    :words="`${host} gets what is in force, and goes with the others again.`"
    verb="Let it go"
    :act="letGo"
    @close="letting = false"
  />
  <RetireDialog v-model="retiring" :host="host" />
  <BulkEdit v-model="editing" :hosts="host" :names="[host]" :what="what" />
  <Answer :pending="isPending" :error="error" :what="`Host ${host}`">
    <template v-if="h">
      <div class="mb-6 flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <StateMark :state="h.verdict.state" />
        <p v-if="h.verdict.reason" class="min-w-0 break-words">
          {{ sentence(h.verdict.reason)
          }}<span v-if="h.verdict.until" class="text-soft"> ({{ until(h.verdict.until) }})</span>
        </p>
        <p v-if="h.verdict.todo" class="w-full text-soft">{{ sentence(h.verdict.todo) }}</p>
      </div>
      <Facts :items="facts" />
      <Tabs
        :tabs="[
          { name: 'Sources', to: `/hosts/${host}/sources`, count: h.sources.length },
          { name: 'Numbers', to: `/hosts/${host}/numbers` },
          { name: 'Uncollected', to: `/hosts/${host}/uncollected` },
          { name: 'Config', to: `/hosts/${host}/config` },
          { name: 'History', to: `/hosts/${host}/history` },
          { name: 'Facts', to: `/hosts/${host}/facts` },
        ]"
        :current="current"
      />
      <template v-if="current === 'sources'"
        ><HostSources :host="h" /><HostExplain :host="host"
      /></template>
      <NumberCharts v-else-if="current === 'numbers'" :key="host" :host="host" />
      <HostLogs v-else-if="current === 'uncollected'" :key="host" :host="host" />
      <HostConfig v-else-if="current === 'config'" :host="host" />
      <HostHistory v-else-if="current === 'history'" :key="host" :host="host" />
      <div v-else class="space-y-8">
        <section>
          <h2 class="mb-2 text-section font-semibold">Labels</h2>
          <Labels :of="h.labels" /><button class="button quiet mt-3 !h-8" @click="edit('labels')">
            Change labels…
          </button>
        </section>
        <section>
          <h2 class="mb-2 text-section font-semibold">Settings in effect</h2>
          <Labels :of="h.effectiveSettings" />
        </section>
        <section>
          <h2 class="mb-2 text-section font-semibold">Settings of its own</h2>
          <Labels :of="h.settings" />
          <p class="mt-2 text-table text-soft">They win over all others.</p>
          <button class="button quiet mt-3 !h-8" @click="edit('settings')">Change settings…</button>
        </section>
        <section>
          <h2 class="mb-2 text-section font-semibold">Observed</h2>
          <Facts :items="observed" />
        </section>
      </div>
    </template>
  </Answer>
</template>
