<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { plural } from '../composables/format'
import StateMark from './StateMark.vue'

/** A strip a site: the worst of its hosts first, in words and shape. */
const props = defineProps<{ sites: Schemas['SiteState'][] }>()
const most = 8
const order = ['failing', 'offline', 'degraded', 'waiting', 'healthy'] as const
const shown = computed(() =>
  props.sites.slice(0, most).map((s) => ({
    ...s,
    all: order.reduce((n, k) => n + s.hosts[k], 0),
    states: order.filter((k) => s.hosts[k] > 0).map((k) => ({ state: k, n: s.hosts[k] })),
  })),
)
const to = (site: string) => ({
  path: '/hosts',
  query: { hosts: site ? `site=${site}` : '!("site" in labels)' },
})
</script>

<template>
  <section class="mb-10" aria-label="Sites">
    <ul class="grid gap-x-10 gap-y-1 sm:grid-cols-2 xl:grid-cols-4">
      <li v-for="s in shown" :key="s.site" class="border-t border-line py-2">
        <p class="flex justify-between gap-3">
          <router-link :to="to(s.site)" class="link min-w-0 truncate">{{
            s.site || 'no site'
          }}</router-link><span class="text-table text-soft">{{ plural(s.all, 'host') }}</span>
        </p>
        <p class="flex flex-wrap gap-x-4 text-table">
          <span v-for="x in s.states" :key="x.state" class="flex gap-1"
            ><StateMark :state="x.state" /><span class="machine">{{ x.n }}</span></span
          >
        </p>
      </li>
    </ul>
    <p v-if="sites.length > most" class="mt-2 text-soft">
      and {{ plural(sites.length - most, 'more site') }}, with less trouble
    </p>
  </section>
</template>
