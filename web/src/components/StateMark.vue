<script setup lang="ts">
import type { Schemas } from '../api/client'

/** A state by shape, word and colour together. */
defineProps<{ state: Schemas['State']; bare?: boolean }>()
</script>

<template>
  <span
    class="inline-flex items-center gap-2 font-medium whitespace-nowrap"
    :class="`text-${state}`"
  >
    <svg
      viewBox="0 0 14 14"
      class="size-3.5 shrink-0"
      aria-hidden="true"
      fill="none"
      stroke="currentColor"
      stroke-width="1.8"
    >
      <circle v-if="state === 'healthy'" cx="7" cy="7" r="5" fill="currentColor" stroke="none" />
      <path
        v-else-if="state === 'degraded'"
        d="M7 1.2 13.2 12.6H.8Z"
        fill="currentColor"
        stroke="none"
      />
      <path
        v-else-if="state === 'failing'"
        d="M4.4.8h5.2l3.6 3.6v5.2l-3.6 3.6H4.4L.8 9.6V4.4Z"
        fill="currentColor"
        stroke="none"
      />
      <circle v-else-if="state === 'waiting'" cx="7" cy="7" r="5" stroke-dasharray="3 2.24" />
      <template v-else>
        <circle cx="7" cy="7" r="5" />
        <path d="M1.5 12.5 12.5 1.5" />
      </template>
    </svg>
    <span :class="{ 'sr-only': bare }">{{ state }}</span>
  </span>
</template>
