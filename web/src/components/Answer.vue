<script setup lang="ts">
import { ProblemError } from '../api/client'

/** What stands in the place of content that is not there yet: still waiting for it, or why it failed. */
defineProps<{ pending: boolean; error: unknown; what: string }>()
</script>

<template>
  <div v-if="error" role="alert" class="rounded-md border border-failing px-4 py-3">
    <p class="font-medium text-failing">{{ what }} could not be shown</p>
    <p>{{ error instanceof Error ? error.message : error }}</p>
    <p
      v-if="!(error instanceof ProblemError) || error.status === 0 || error.status >= 500"
      class="text-soft"
    >
      It is tried again by itself; the service's log says more.
    </p>
  </div>
  <p v-else-if="pending" class="text-soft" role="status">Reading {{ what.toLowerCase() }}…</p>
  <slot v-else />
</template>
