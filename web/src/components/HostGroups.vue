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
      <strong class="font-medium"
        >{{ plural(g.hosts.length, 'host') }} {{ g.hosts.length === 1 ? 'changes' : 'change' }} like
        this</strong
      >
      <span class="machine ml-3 text-soft"
        >{{ g.hosts.slice(0, 3).join(', ')
        }}<template v-if="g.hosts.length > 3"> and {{ g.hosts.length - 3 }} more</template></span
      >
    </summary>
    <DiffView :lines="g.diff" />
    <details v-if="g.hosts.length > 3" class="mt-2">
      <summary class="cursor-pointer text-table text-soft">
        All {{ g.hosts.length }} by name
      </summary>
      <ul class="mt-1 max-h-72 columns-2 overflow-y-auto xl:columns-3">
        <li v-for="h in g.hosts" :key="h">
          <router-link :to="`/hosts/${h}`" class="link machine break-all">{{ h }}</router-link>
        </li>
      </ul>
    </details>
  </details>
</template>
