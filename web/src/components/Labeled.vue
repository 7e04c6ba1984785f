<script setup lang="ts">
/** A field with its name above and what it is for below. */
defineProps<{ label: string; hint?: string }>()
</script>

<template>
  <label class="block">
    <span class="mb-1 block font-medium">{{ label }}</span>
    <slot />
    <span v-if="hint" class="mt-1 block text-table text-soft">{{ hint }}</span>
  </label>
</template>
