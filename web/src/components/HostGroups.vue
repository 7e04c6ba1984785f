<script setup lang="ts">
import type { Schemas } from '../api/client'
import { plural } from '../composables/format'
import DiffView from './DiffView.vue'

/** Hosts grouped by identical difference, largest group first. */
defineProps<{ groups: Schemas['ImpactGroup'][] }>()
</script>

<template>
  <p v-if="!groups.length" class="text-soft">No host changes.</p>
  <details v-for="(g, i) in groups" :key="g.hosts[0]" class="mb-4" :open="i === 0">
    <summary class="cursor-pointer py-1">
      <strong class="font-medium">{{ plural(g.hosts.length, 'host') }} {{ g.hosts.length === 1 ? 'changes' : 'change' }} like this</strong>
      <span class="machine ml-3 text-soft">{{ g.hosts.slice(0, 5).join(', ') }}<template v-if="g.hosts.length > 5"> and {{ g.hosts.length - 5 }} more</template></span>
    </summary>
    <DiffView :lines="g.diff" />
  </details>
</template>
