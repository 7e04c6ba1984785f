<script setup lang="ts">
import { computed } from 'vue'
import { bytes, number } from '../composables/format'
import type { FlowLink, FlowNode, FlowPicture, Measure } from '../composables/flow'
import StateMark from './StateMark.vue'

/** Sites, sources and destinations with bands between them, as wide as what went there. */
const props = defineProps<{ of: FlowPicture; measure: Measure }>()
const wide = 1040
const bar = 10
const x = { site: 180, source: 490, destination: 800 }
const amount = (v: number) => (props.measure === 'bytes' ? bytes(v) : number(v))
const band = (l: FlowLink) => {
  const a = x[l.from.column] + bar
  const b = x[l.to.column]
  const m = (a + b) / 2
  return `M${a},${l.y0} C${m},${l.y0} ${m},${l.y1} ${b},${l.y1}`
}
const to = (n: FlowNode) =>
  n.together > 1
    ? undefined
    : n.column === 'site'
      ? { path: '/hosts', query: n.name ? { hosts: `site=${n.name}` } : {} }
      : `/catalogue/${n.column}/${n.name}${n.column === 'source' ? '/numbers' : ''}`
const label = (n: FlowNode) => n.name || 'no site'
const loud = (n: FlowNode) => n.state === 'failing' || n.state === 'degraded'
const place = (n: FlowNode) => ({
  top: `${n.y + n.h / 2 - 12}px`,
  left: `${(100 * (n.column === 'site' ? 0 : x[n.column] + bar + 8)) / wide}%`,
  width: `${(100 * (n.column === 'site' ? x.site - 8 : n.column === 'source' ? 190 : wide - x.destination - bar - 8)) / wide}%`,
})
const height = computed(() => Math.max(60, props.of.height))
</script>

<template>
  <div class="relative" :style="{ height: `${height}px` }" role="group" aria-label="Flow">
    <svg
      :viewBox="`0 0 ${wide} ${height}`"
      preserveAspectRatio="none"
      class="absolute inset-0 size-full"
      aria-hidden="true"
    >
      <path
        v-for="(l, i) in of.links"
        :key="i"
        :d="band(l)"
        fill="none"
        :stroke-width="Math.max(1, l.w)"
        :style="{ stroke: `var(--${loud(l.to) ? l.to.state : 'accent'})` }"
        :stroke-opacity="loud(l.to) ? 0.45 : 0.22"
      >
        <title>{{ label(l.from) }} to {{ label(l.to) }}: {{ amount(l.value) }}</title>
      </path>
      <rect
        v-for="n in of.nodes"
        :key="n.column + n.name"
        :x="x[n.column]"
        :y="n.y"
        :width="bar"
        :height="n.h"
        class="fill-ink"
      />
    </svg>
    <component
      :is="to(n) ? 'router-link' : 'span'"
      v-for="n in of.nodes"
      :key="n.column + n.name"
      :to="to(n)"
      class="absolute flex h-6 items-center gap-2 overflow-hidden text-table"
      :class="[
        n.column === 'site' ? 'justify-end' : '',
        to(n) ? 'hover:text-accent hover:underline' : '',
      ]"
      :style="place(n)"
      :title="`${label(n)}: ${amount(n.value)}${n.wrong ? `; something is wrong on ${n.wrong} hosts` : ''}`"
    >
      <StateMark :state="n.state" bare />
      <span
        class="truncate rounded bg-paper/80 px-0.5"
        :class="{ machine: n.together === 1 && n.name }"
        >{{ label(n) }}</span
      >
      <span class="shrink-0 text-soft">{{ amount(n.value) }}</span>
    </component>
  </div>
</template>
