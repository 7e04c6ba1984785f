<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { number } from '../composables/format'
import StateMark from './StateMark.vue'

/** Counts by state; as filters when `chosen` is bound, each is a link. */
const props = defineProps<{ counts: Schemas['Counts']; base?: string; chosen?: string }>()
const order = ['failing', 'offline', 'degraded', 'waiting', 'healthy'] as const
const shown = computed(() => order.filter((s) => props.counts[s] > 0 || props.chosen === s))
</script>

<template>
  <ul class="flex flex-wrap gap-2">
    <li v-for="s in shown" :key="s">
      <component
        :is="base ? 'router-link' : 'span'"
        :to="
          base
            ? { path: base, query: { ...$route.query, state: chosen === s ? undefined : s } }
            : undefined
        "
        class="inline-flex h-8 items-center gap-2 rounded-md border px-3 text-table"
        :class="chosen === s ? 'border-accent bg-sunk' : 'border-line'"
        :aria-current="chosen === s ? 'true' : undefined"
      >
        <span class="font-mono tabular-nums">{{ number(counts[s]) }}</span>
        <StateMark :state="s" />
      </component>
    </li>
    <li v-if="!shown.length" class="text-soft">none</li>
  </ul>
</template>
