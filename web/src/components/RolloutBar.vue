<script setup lang="ts">
import { computed } from 'vue'
import { number } from '../composables/format'

/** How far a rollout is: shares of its hosts by state, always with the words beside it. */
const props = defineProps<{ counts: Record<string, number> }>()
const order = [
  { state: 'confirmed', look: 'bg-healthy' },
  { state: 'applied', look: 'bg-healthy/60' },
  { state: 'applying', look: 'bg-waiting' },
  { state: 'offered', look: 'bg-waiting/70' },
  { state: 'waiting', look: 'bg-waiting/40' },
  { state: 'refused', look: 'bg-failing' },
  { state: 'timed out', look: 'bg-degraded' },
  { state: 'deferred', look: 'bg-offline' },
  { state: 'left out', look: 'bg-line' },
]
const total = computed(() => Object.values(props.counts).reduce((a, b) => a + b, 0))
const parts = computed(() =>
  order
    .filter((o) => (props.counts[o.state] ?? 0) > 0)
    .map((o) => ({ ...o, n: props.counts[o.state]! })),
)
</script>

<template>
  <div>
    <div class="flex h-3 w-full overflow-hidden rounded-sm bg-sunk" aria-hidden="true">
      <span
        v-for="p in parts"
        :key="p.state"
        :class="p.look"
        :style="{ width: `${(100 * p.n) / total}%` }"
        class="border-r border-paper last:border-0"
      />
    </div>
    <p class="mt-2 flex flex-wrap gap-x-4 text-table">
      <span v-for="p in parts" :key="p.state" class="inline-flex items-center gap-2">
        <span class="size-2.5 rounded-[2px]" :class="p.look" aria-hidden="true" /><span
          class="font-mono tabular-nums"
          >{{ number(p.n) }}</span
        >
        {{ p.state }}
      </span>
      <span v-if="!parts.length" class="text-soft">no hosts</span>
    </p>
  </div>
</template>
