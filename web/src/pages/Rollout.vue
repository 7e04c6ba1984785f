<script setup lang="ts">
import { computed } from 'vue'
import { useRollout } from '../api/queries'
import Answer from '../components/Answer.vue'
import Facts from '../components/Facts.vue'
import PageHead from '../components/PageHead.vue'
import RolloutBar from '../components/RolloutBar.vue'
import { ago, moment, until } from '../composables/format'

const props = defineProps<{ rollout: string }>()
const { data: r, isPending, error } = useRollout(() => Number(props.rollout))
const facts = computed(() =>
  r.value
    ? [
        { name: 'Revision', value: String(r.value.revision) },
        { name: 'Wave', value: `${r.value.wave} of ${r.value.waves}` },
        { name: 'Started', value: `${moment(r.value.started)} by ${r.value.author}` },
        { name: 'Ended', value: r.value.ended ? moment(r.value.ended) : 'not yet' },
      ]
    : [],
)
const look: Record<string, string> = {
  refused: 'text-failing',
  'timed out': 'text-degraded',
  confirmed: 'text-healthy',
  deferred: 'text-offline',
}
const mark: Record<string, string> = {
  refused: '⯃',
  'timed out': '▲',
  confirmed: '●',
  deferred: '⊘',
  'left out': '–',
}
</script>

<template>
  <PageHead :title="`Rollout ${rollout}`" back="Rollouts" back-to="/rollouts" />
  <Answer :pending="isPending" :error="error" :what="`Rollout ${rollout}`">
    <template v-if="r">
      <p
        class="mb-4 font-medium"
        :class="{ 'text-failing': r.state === 'stopped', 'text-waiting': r.state === 'running' }"
      >
        {{ r.state === 'running' ? 'Running' : r.state === 'done' ? 'Done' : 'Stopped'
        }}<span class="font-normal text-ink">: {{ r.decisions.at(-1)?.why }}</span>
      </p>
      <RolloutBar :counts="r.counts" class="mb-6" />
      <Facts :items="facts" />
      <h2 class="mt-8 mb-3 text-section font-semibold">Hosts</h2>
      <table class="grid-table">
        <thead>
          <tr>
            <th>State</th>
            <th>Host</th>
            <th>Since</th>
            <th>Reason</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="h in r.hosts" :key="h.host">
            <td class="font-medium whitespace-nowrap" :class="look[h.state] ?? 'text-waiting'">
              <span aria-hidden="true" class="inline-block w-5">{{ mark[h.state] ?? '◌' }}</span>{{
                h.state
              }}
            </td>
            <td>
              <router-link :to="`/hosts/${h.host}`" class="link machine">{{ h.host }}</router-link>
            </td>
            <td class="whitespace-nowrap">
              {{ ago(h.since)
              }}<span v-if="h.until" class="text-soft">, answer {{ until(h.until) }}</span>
            </td>
            <td class="break-words">{{ h.reason }}</td>
          </tr>
        </tbody>
      </table>
      <h2 class="mt-8 mb-3 text-section font-semibold">Decisions</h2>
      <ul class="border-t border-line">
        <li
          v-for="(d, i) in r.decisions"
          :key="i"
          class="grid grid-cols-[18rem_6rem_1fr] gap-4 border-b border-line py-1.5 text-table"
        >
          <span class="text-soft">{{ moment(d.at) }}</span><span class="font-medium">{{
            d.what
          }}</span
          ><span>{{ d.why }}</span>
        </li>
      </ul>
    </template>
  </Answer>
</template>
