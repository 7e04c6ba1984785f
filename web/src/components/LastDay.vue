<script setup lang="ts">
import type { Schemas } from '../api/client'
import { ago, moment, plural } from '../composables/format'

/** What was done in the last day, and by whom. */
defineProps<{ status: Schemas['Status'] }>()
</script>

<template>
  <section v-if="status.rollouts.length || status.changes.length" class="mt-10">
    <h2 class="mb-3 text-section font-semibold">Done in the last 24 hours</h2>
    <ul class="border-t border-line">
      <li
        v-for="r in status.rollouts"
        :key="`r${r.id}`"
        class="flex flex-wrap justify-between gap-x-6 border-b border-line py-2"
      >
        <span
          ><router-link :to="`/rollouts/${r.id}`" class="link">Rollout {{ r.id }}</router-link> of
          revision {{ r.revision }}: {{ r.state }}</span
        ><span class="text-soft" :title="moment(r.started)"
          >{{ r.author }}, {{ ago(r.started) }}</span
        >
      </li>
      <li
        v-for="c in status.changes"
        :key="c.id"
        class="flex flex-wrap justify-between gap-x-6 border-b border-line py-2"
      >
        <span
          >{{ c.action }} <span class="machine">{{ c.object }}</span></span
        ><span class="text-soft" :title="moment(c.at)">{{ c.who }}, {{ ago(c.at) }}</span>
      </li>
    </ul>
    <p v-if="status.moreChanges" class="mt-2">
      <router-link to="/audit" class="link"
        >and {{ plural(status.moreChanges, 'more change') }}</router-link
      >
    </p>
  </section>
</template>
