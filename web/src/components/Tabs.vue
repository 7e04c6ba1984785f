<script setup lang="ts">
/** Tabs that are links, so that each has an address. */
defineProps<{ tabs: { name: string; to: string; count?: number }[]; current: string }>()
</script>

<template>
  <nav class="mt-8 mb-4 flex gap-6 border-b border-line" aria-label="Parts of this page">
    <router-link
      v-for="t in tabs"
      :key="t.name"
      :to="t.to"
      class="-mb-px border-b-2 pb-2 font-medium"
      :class="
        t.name.toLowerCase() === current
          ? 'border-accent text-ink'
          : 'border-transparent text-soft hover:text-ink'
      "
      :aria-current="t.name.toLowerCase() === current ? 'page' : undefined"
    >
      {{ t.name
      }}<span v-if="t.count !== undefined" class="ml-2 font-mono text-table text-soft">{{
        t.count
      }}</span>
    </router-link>
  </nav>
</template>
