<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'

/** What the gate looks at, and what is known of the wave at work. */
const props = defineProps<{ rollout: Schemas['Rollout'] }>()
const words: Record<string, string> = {
  failing: 'hosts that fail now and did not before',
  degraded: 'hosts that are degraded now and were not before',
  silent: 'hosts that read records before and none now',
  refused: 'hosts that refused the config',
  timed_out: 'hosts that did not answer in time',
  unparsed_share: 'lines that no format reads, above the share of the hour before',
  rejected_share: 'records that destinations refused, above the share of the hour before',
  read_ratio: 'records read, against the hour before',
  delivered_ratio: 'records acknowledged, against the hour before',
  cpu_share: "the agents' share of a core",
}
const rows = computed(() => {
  const stop = props.rollout.plan.stopWhen ?? ''
  const numbers = props.rollout.gate?.numbers ?? {}
  return Object.keys({ ...words, ...numbers })
    .filter((n) => new RegExp(`\\b${n}\\b`).test(stop))
    .map((n) => ({
      name: n,
      says: words[n] ?? (words[n.replace('_share', '')] ?? '') + ', as a share',
      value: n in numbers ? Number(numbers[n]!.toPrecision(3)).toString() : 'not known',
    }))
})
</script>

<template>
  <template v-if="rollout.plan.stopWhen && rollout.state === 'running'">
    <h2 class="mt-8 mb-3 text-section font-semibold">Gate</h2>
    <p class="mb-3">
      Stops when <code class="machine">{{ rollout.plan.stopWhen }}</code>, and then
      {{ rollout.plan.onStop === 'go-back' ? 'goes back by itself.' : 'waits for a person.' }}
    </p>
    <table class="grid-table max-w-[52rem]">
      <thead>
        <tr>
          <th>Number</th>
          <th class="!text-right">Now</th>
          <th>What it is</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="n in rows" :key="n.name">
          <td class="machine">{{ n.name }}</td>
          <td class="num" :class="{ 'text-soft': n.value === 'not known' }">{{ n.value }}</td>
          <td>{{ n.says }}</td>
        </tr>
      </tbody>
    </table>
    <p v-if="rollout.gate?.missing" class="mt-2 text-soft">
      It lacks evidence: {{ rollout.gate.missing }}.
    </p>
  </template>
</template>
