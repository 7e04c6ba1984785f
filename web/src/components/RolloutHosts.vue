<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import type { Schemas } from '../api/client'
import { ago, number, until } from '../composables/format'

/** The hosts of a rollout, those in trouble first, a part of them at a time. */
const props = defineProps<{ hosts: Schemas['RolloutHost'][]; waves: number }>()
const wave = defineModel<number>('wave', { default: 0 })
const find = ref('')
const shown = ref(100)
watch([wave, find], () => (shown.value = 100))
const look: Record<string, string> = {
  refused: 'text-failing',
  'timed out': 'text-degraded',
  confirmed: 'text-healthy',
  deferred: 'text-offline',
  'left out': 'text-soft',
}
const mark: Record<string, string> = {
  refused: '✖',
  'timed out': '▲',
  confirmed: '●',
  deferred: '⊘',
  'left out': '–',
}
const list = computed(() =>
  props.hosts.filter(
    (h) =>
      (!wave.value || h.wave === wave.value) &&
      (!find.value || `${h.host} ${h.state} ${h.reason ?? ''}`.includes(find.value)),
  ),
)
</script>

<template>
  <div class="mt-8 mb-3 flex flex-wrap items-center gap-4">
    <h2 class="text-section font-semibold">Hosts</h2>
    <input
      v-model="find"
      class="field w-64"
      placeholder="name, state or reason"
      aria-label="Find hosts of the rollout"
    />
    <button v-if="wave" type="button" class="link text-table" @click="wave = 0">
      Only wave {{ wave }}: show all
    </button>
    <span class="ml-auto text-table text-soft">{{ number(list.length) }}</span>
  </div>
  <table class="grid-table">
    <thead>
      <tr>
        <th>State</th>
        <th>Host</th>
        <th v-if="waves > 1" class="!text-right">Wave</th>
        <th>Since</th>
        <th>Reason</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="h in list.slice(0, shown)" :key="h.host">
        <td class="font-medium whitespace-nowrap" :class="look[h.state] ?? 'text-waiting'">
          <span aria-hidden="true" class="inline-block w-5">{{ mark[h.state] ?? '◌' }}</span>{{
            h.state
          }}
        </td>
        <td>
          <router-link :to="`/hosts/${h.host}`" class="link machine">{{ h.host }}</router-link>
        </td>
        <td v-if="waves > 1" class="num">{{ h.wave || '–' }}</td>
        <td class="whitespace-nowrap">
          {{ ago(h.since)
          }}<span v-if="h.until" class="text-soft">, answer {{ until(h.until) }}</span>
        </td>
        <td class="break-words">{{ h.reason }}</td>
      </tr>
    </tbody>
  </table>
  <button v-if="list.length > shown" type="button" class="button quiet mt-3" @click="shown += 500">
    Show {{ number(Math.min(500, list.length - shown)) }} more
  </button>
</template>
