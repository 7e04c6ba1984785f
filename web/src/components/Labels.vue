<script setup lang="ts">
/** Labels or settings, sorted by key. */
const props = defineProps<{ of: Record<string, string> }>()
const sorted = () => Object.entries(props.of).sort(([a], [b]) => a.localeCompare(b))
</script>

<template>
  <span class="flex flex-wrap gap-x-3 gap-y-1">
    <span v-for="[k, v] in sorted()" :key="k" class="machine break-all"
      ><span class="text-soft">{{ k }}=</span>{{ v }}</span
    >
    <span v-if="!sorted().length" class="text-soft">none</span>
  </span>
</template>
