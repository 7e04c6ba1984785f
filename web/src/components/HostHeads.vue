<script setup lang="ts">
import type { RouteLocationRaw } from 'vue-router'

/** The heads of the columns of the list of hosts; a click orders by one. */
defineProps<{ sort?: string; reverse?: boolean; ordered: (key: string) => RouteLocationRaw }>()
const heads: { key?: string; word: string; num?: boolean }[] = [
  { key: 'state', word: 'State' },
  { key: 'name', word: 'Host' },
  { key: 'revision', word: 'Revision', num: true },
  { key: 'read', word: 'Read', num: true },
  { key: 'acknowledged', word: 'Acknowledged', num: true },
  { key: 'lastRecord', word: 'Last record' },
  { word: 'Labels' },
]
</script>

<template>
  <th
    v-for="h in heads"
    :key="h.word"
    :class="{ '!text-right': h.num }"
    :aria-sort="h.key === sort ? (reverse ? 'descending' : 'ascending') : undefined"
  >
    <router-link v-if="h.key" :to="ordered(h.key)" class="hover:text-accent"
      >{{ h.word
      }}<span v-if="h.key === sort" aria-hidden="true">
        {{ reverse ? '↑' : '↓' }}</span
      ></router-link
    >
    <template v-else>{{ h.word }}</template>
  </th>
</template>
