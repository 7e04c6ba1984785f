<script setup lang="ts">
import { computed } from 'vue'
import { useRouter } from 'vue-router'
import { useRollouts, useStatus } from '../api/queries'
import Answer from '../components/Answer.vue'
import PageHead from '../components/PageHead.vue'
import { ago, moment, plural } from '../composables/format'
import { atWork, tone } from '../composables/rollout'
import { rowKeys } from '../composables/rows'

const { data, isPending, error } = useRollouts()
const { data: status } = useStatus()
const router = useRouter()
const open = (id: number) => router.push(`/rollouts/${id}`)

/** Why there is something to roll out, or "". */
const waits = computed(() => {
  const s = status.value
  if (!s || !s.published || s.rollout?.state === 'running') return ''
  if (s.published > s.inForce)
    return s.rolledOut
      ? `Revision ${s.published} was rolled out, and revision ${s.inForce} again after it.`
      : `Revision ${s.published} is published and not in force.`
  if (s.pendingInventory.length)
    return `Labels or settings of ${plural(s.pendingInventory.length, 'host')} changed: ${s.pendingInventory.slice(0, 5).join(', ')}.`
  return ''
})

const told = (counts: Record<string, number>) =>
  Object.entries(counts)
    .map(([s, n]) => `${n} ${s}`)
    .join(', ') || 'no hosts'
</script>

<template>
  <PageHead title="Rollouts">
    <template #actions
      ><router-link v-if="status?.published" to="/rollouts/new" class="button">
        Roll out revision {{ status.published }}…
      </router-link></template
    >
  </PageHead>
  <p class="mb-6">
    {{
      waits ||
      (status?.rollout?.state === 'running'
        ? 'A rollout is under way.'
        : 'Nothing waits for a rollout.')
    }}
  </p>
  <Answer :pending="isPending" :error="error" what="The rollouts">
    <p v-if="!data?.items.length" class="text-soft">
      No rollout yet. Publish a draft first, then bring the hosts to it.
    </p>
    <table v-else class="grid-table">
      <thead>
        <tr>
          <th>Rollout</th>
          <th>State</th>
          <th class="!text-right">Revision</th>
          <th>Hosts</th>
          <th>Started</th>
          <th>By</th>
        </tr>
      </thead>
      <tbody>
        <tr
          v-for="r in data.items"
          :key="r.id"
          tabindex="0"
          @click="open(r.id)"
          @keydown="rowKeys($event, () => open(r.id))"
        >
          <td class="machine">{{ r.id }}</td>
          <td class="font-medium" :class="tone(r.state)">
            {{ atWork(r)
            }}<span v-if="r.takesBack || r.chosen" class="block font-normal text-soft">{{
              r.takesBack ? `takes back rollout ${r.takesBack}` : `for ${r.chosen}`
            }}</span>
          </td>
          <td class="num">{{ r.revision }}</td>
          <td>{{ told(r.counts) }}</td>
          <td class="whitespace-nowrap" :title="moment(r.started)">{{ ago(r.started) }}</td>
          <td>{{ r.author }}</td>
        </tr>
      </tbody>
    </table>
  </Answer>
</template>
