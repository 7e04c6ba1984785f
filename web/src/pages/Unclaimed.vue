<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { useRoute, useRouter } from 'vue-router'
import { client, take, type Schemas } from '../api/client'
import Answer from '../components/Answer.vue'
import PageHead from '../components/PageHead.vue'
import { ago, moment, number, plural } from '../composables/format'
import { useWorkbench } from '../composables/workbench'

/** What no format read and what no route took, with examples and a way into the workbench. */
const route = useRoute()
const router = useRouter()
const source = () => (route.query.source as string | undefined) || undefined
const { bench, open } = useWorkbench()
const { data, isPending, error } = useQuery({
  queryKey: ['unclaimed', source],
  queryFn: () => take(client.GET('/unclaimed', { params: { query: { source: source() } } })),
  refetchInterval: 60_000,
})
const words = { unparsed: 'not read by its format', 'no-route': 'taken by no route' }

async function toWorkbench(u: Schemas['Unclaimed']) {
  await open('source', u.source, 0)
  Object.assign(bench, {
    lines: u.examples.map((e) => e.text).join('\n') + '\n',
    from: `records of ${u.source} that were ${words[u.reason]}`,
    modified: u.examples[0]?.at,
    encoding: '',
    host: u.examples[0]?.host ?? '',
  })
  await router.push('/workbench')
}
</script>

<template>
  <PageHead title="Unclaimed" back="Catalogue" back-to="/catalogue">
    <p class="text-soft">
      Records of the last 24 hours that no format read, or no route took, with the newest of each
      shape. Private data is covered.
    </p>
  </PageHead>
  <Answer :pending="isPending" :error="error" what="The unclaimed">
    <p v-if="!data?.items.length" class="text-soft">
      Nothing. Every record was read by its format and taken by a route.
    </p>
    <article
      v-for="u in data?.items"
      :key="u.source + u.reason"
      class="border-b border-line py-4"
      :aria-label="`${u.source}, ${words[u.reason]}`"
    >
      <div class="flex flex-wrap items-baseline gap-x-4 gap-y-2">
        <h2 class="text-section font-semibold">
          <RouterLink class="link machine" :to="`/catalogue/source/${u.source}`">{{
            u.source
          }}</RouterLink>
        </h2>
        <span
          ><span :class="{ 'text-degraded': u.share > 0.01 }">▲</span> {{ number(u.records) }}
          {{ words[u.reason] }},
          {{ (100 * u.share).toLocaleString('en', { maximumFractionDigits: 1 }) }} % of what it
          read</span
        >
        <button
          v-if="u.examples.length"
          type="button"
          class="button quiet ml-auto !h-8"
          @click="toWorkbench(u)"
        >
          Take these to the workbench
        </button>
      </div>
      <ul v-if="u.examples.length" class="mt-2 text-table">
        <li
          v-for="(e, i) in u.examples"
          :key="i"
          class="grid gap-x-4 py-1 md:grid-cols-[14rem_1fr]"
        >
          <span class="text-soft" :title="`${moment(e.at)} ${e.file ?? ''}`"
            ><RouterLink class="link machine" :to="`/hosts/${e.host}`">{{ e.host }}</RouterLink
            ><template v-if="e.hosts > 1"> and {{ plural(e.hosts - 1, 'other') }}</template
            >, {{ ago(e.at) }}</span
          >
          <span class="machine min-w-0 break-all whitespace-pre-wrap">{{ e.text }}</span>
        </li>
      </ul>
      <p v-else class="mt-1 text-table text-soft">
        No example is left: agents keep them until they restart.
      </p>
    </article>
    <p v-for="s in data?.silent" :key="s.host" class="mt-2 text-table text-soft">
      <span class="machine">{{ s.host }}</span> could not be asked: {{ s.reason }}
    </p>
    <p v-if="data?.more" class="mt-2 text-table text-soft">
      {{ plural(data.more, 'more host') }} were not asked for examples.
    </p>
  </Answer>
</template>
