<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { sentence } from '../composables/format'

/** How far the record of one host has come. */
const props = defineProps<{ event: Schemas['ProbeEvent']; open: boolean }>()
const state = computed(() => props.event.state ?? 'under-way')
const marks = {
  arrived: '● arrived',
  dropped: '✖ dropped',
  stuck: '✖ stuck',
  'under-way': '◌ under way',
}
const bad = (h: Schemas['ProbeHop']) =>
  ['dropped', 'refused', 'discarded', 'missing'].includes(h.hop)
const after = (h: Schemas['ProbeHop']) => {
  const began = Date.parse(props.event.hops?.[0]?.at ?? h.at)
  return `${(Math.max(0, Date.parse(h.at) - began) / 1000).toFixed(2)} s`
}
function what(h: Schemas['ProbeHop']) {
  if (h.hop === 'queued' || h.hop === 'buffered') return `${h.hop} for ${h.destination}`
  if (h.hop === 'found') return `found at ${h.destination}`
  return h.destination ? `${h.hop} by ${h.destination}` : h.hop
}
</script>

<template>
  <li class="border-b border-line py-2">
    <p class="flex flex-wrap gap-x-4">
      <span class="w-28" :class="{ 'text-failing': state === 'stuck' || state === 'dropped' }">{{
        marks[state]
      }}</span><span class="machine">{{ event.host }}</span>
      <span v-if="event.reason" class="w-full break-words text-failing">{{
        sentence(event.reason)
      }}</span>
    </p>
    <ul v-if="open || state !== 'arrived'" class="mt-1">
      <li
        v-for="(h, i) in event.hops"
        :key="i"
        class="grid grid-cols-[4rem_16rem_1fr] gap-3 py-0.5"
        :class="{ 'text-failing': bad(h) }"
      >
        <span class="num text-soft">{{ after(h) }}</span><span
          >{{ bad(h) ? '✖' : '●' }} {{ what(h) }}</span
        >
        <span class="min-w-0 break-words"
          >{{ h.words }}<span v-if="h.record" class="machine block">{{ h.record.body }}</span></span
        >
      </li>
    </ul>
  </li>
</template>
