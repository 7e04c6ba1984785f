<script setup lang="ts">
import { computed, ref, shallowRef, watch } from 'vue'
import { useRouter } from 'vue-router'
import { client, take, type Schemas } from '../api/client'
import { allHostNames, useHostPages } from '../api/queries'
import BulkEdit from '../components/BulkEdit.vue'
import HostCells from '../components/HostCells.vue'
import HostHeads from '../components/HostHeads.vue'
import Answer from '../components/Answer.vue'
import ImportDialog from '../components/ImportDialog.vue'
import NewcomerList from '../components/NewcomerList.vue'
import PageHead from '../components/PageHead.vue'
import StateCounts from '../components/StateCounts.vue'
import { useChosen } from '../composables/chosen'
import { download, hostList } from '../composables/csv'
import { useDoing } from '../composables/doing'
import { number, plural, sentence } from '../composables/format'
import { useHostFilter } from '../composables/hostFilter'
import { rowKeys, useLongList } from '../composables/rows'

const importing = ref(false)
const { busy, error: failed, doing } = useDoing()
const save = () =>
  doing(async () => download('hosts.csv', hostList((await take(client.GET('/inventory'))).items)))
const router = useRouter()
const { text, sort, filter, ordered } = useHostFilter()
const {
  data: fresh,
  isPending,
  error,
  fetchNextPage,
  hasNextPage,
  isFetchingNextPage,
} = useHostPages(filter)
/** What was shown last stays while an expression cannot be read yet. */
const shown = shallowRef<Schemas['HostList'][]>()
watch(fresh, (all) => all && (shown.value = all.pages), { immediate: true })
const data = computed(() => shown.value?.[0])
const rows = computed(() => shown.value?.flatMap((p) => p.items) ?? [])
const more = () => {
  if (hasNextPage.value && !isFetchingNextPage.value) void fetchNextPage()
}
const open = (name: string) => router.push(`/hosts/${name}`)

const { chosen, all, choose, toggle } = useChosen()
const fit = computed(() => data.value?.total ?? 0)
const bulk = ref<'labels' | 'settings'>('labels')
const editing = ref(false)
const names = ref<string[]>([])
const edit = (what: 'labels' | 'settings') =>
  doing(async () => {
    names.value = all.value && !byExpression.value ? await allHostNames(filter.value) : chosen.value
    bulk.value = what
    editing.value = true
  })
/** All that fit can be named by the expression alone only when nothing else narrows the list. */
const byExpression = computed(() => all.value && !filter.value.q && !filter.value.state)
const bulkNames = computed(() => (byExpression.value ? undefined : names.value))
const { wrap, list, before, after, measure } = useLongList(rows, 250, more)
</script>

<template>
  <PageHead :title="filter.retired ? 'Retired hosts' : 'Hosts'">
    <router-link :to="filter.retired ? '/hosts' : '/hosts?retired=yes'" class="link text-table">{{
      filter.retired ? 'Back to the fleet' : 'Retired hosts'
    }}</router-link>
    <template #actions
      ><button class="button quiet" :disabled="busy" @click="save">Export</button
      ><button class="button quiet" @click="importing = true">Import…</button></template
    >
  </PageHead>
  <p v-if="failed" role="alert" class="mb-4 text-failing">{{ failed }}</p>
  <ImportDialog v-model="importing" />
  <BulkEdit
    v-model="editing"
    :hosts="filter.hosts ?? ''"
    :names="bulkNames"
    :what="bulk"
    @done="choose([])"
  />
  <NewcomerList v-if="!filter.retired" />
  <div class="mb-4 flex flex-wrap items-center gap-4">
    <input
      v-model="text"
      type="search"
      class="field machine w-[30rem] max-w-full"
      placeholder="a name, site=northpier, or labels.role == 'gate' &amp;&amp; observed.arch == 'arm64'"
      aria-label="Filter hosts by name, label or condition"
    />
    <StateCounts v-if="data" :counts="data.states" base="/hosts" :chosen="filter.state" />
  </div>
  <p v-if="data?.hint" class="mb-4 text-table text-degraded" role="status">
    <span aria-hidden="true">▲</span> {{ sentence(data.hint) }}
  </p>
  <p v-if="error && data" role="alert" class="mb-4 text-table text-failing">{{ error.message }}</p>
  <div
    v-if="chosen.length"
    class="mb-4 flex flex-wrap items-center gap-4 rounded-md border border-accent bg-sheet px-4 py-2"
    role="status"
  >
    <span class="font-medium">{{
      all
        ? `All ${plural(fit, 'host')} that fit are chosen`
        : `${plural(chosen.length, 'host')} ${chosen.length === 1 ? 'is' : 'are'} chosen`
    }}</span>
    <button class="button quiet !h-8" @click="edit('labels')">Labels…</button
    ><button class="button quiet !h-8" @click="edit('settings')">Settings…</button>
    <button
      v-if="!all && fit > chosen.length"
      class="text-accent hover:underline"
      @click="choose(['*'])"
    >
      Choose all that fit
    </button>
    <button class="text-accent hover:underline" @click="choose([])">Choose none</button>
  </div>
  <Answer :pending="isPending && !data" :error="data ? null : error" what="The hosts">
    <p v-if="!rows.length && filter.retired" class="text-soft">No host is retired.</p>
    <p v-else-if="!rows.length && !text && !filter.state" class="text-soft">
      No host has joined yet.
      <router-link to="/tokens" class="link">Make a join token</router-link>, and paste the line
      that it gives on a host.
    </p>
    <p v-else-if="!rows.length" class="text-soft">
      No host fits the filter.
      <router-link to="/hosts" class="link" @click="text = ''">Show all</router-link>
    </p>
    <div v-else :ref="(el) => (wrap = el as HTMLElement)" class="overflow-x-auto">
      <table class="grid-table" :aria-rowcount="fit + 1">
        <thead>
          <tr>
            <th v-if="!filter.retired" class="w-8">
              <input
                type="checkbox"
                :checked="all"
                aria-label="Choose all that fit"
                @change="choose(all ? [] : ['*'])"
              />
            </th>
            <HostHeads :sort="sort" :reverse="filter.reverse" :ordered="ordered" />
          </tr>
        </thead>
        <tbody>
          <tr v-if="before" aria-hidden="true">
            <td :style="{ height: `${before}px`, padding: 0, border: 0 }" colspan="8" />
          </tr>
          <tr
            v-for="{ row: h, index } in list"
            :key="h.name + index"
            :ref="measure"
            :data-index="index"
            :aria-rowindex="index + 2"
            tabindex="0"
            @click="open(h.name)"
            @keydown="rowKeys($event, () => open(h.name))"
          >
            <td v-if="!filter.retired" @click.stop>
              <input
                type="checkbox"
                :checked="all || chosen.includes(h.name)"
                :aria-label="`Choose ${h.name}`"
                @change="toggle(h.name)"
              />
            </td>
            <HostCells :host="h" />
          </tr>
          <tr v-if="after" aria-hidden="true">
            <td :style="{ height: `${after}px`, padding: 0, border: 0 }" colspan="8" />
          </tr>
        </tbody>
      </table>
      <p v-if="hasNextPage" class="mt-3 text-soft">
        <button class="link" @click="more">
          {{ number(rows.length) }} of {{ number(fit) }} are loaded; more come as you go down
        </button>
      </p>
    </div>
  </Answer>
</template>
