<script setup lang="ts">
import type { Schemas } from '../api/client'
import { sentence } from '../composables/format'

/** What is found in the text beside it; a click goes to the line. */
defineProps<{ findings: Schemas['Finding'][]; tried: boolean }>()
defineEmits<{ go: [line: number] }>()
const mark = { error: '✖', warning: '▲', note: '·' } as const
const look = { error: 'text-failing', warning: 'text-degraded', note: 'text-soft' } as const
</script>

<template>
  <ul v-if="findings.length" class="mt-3 border-t border-line" aria-label="Findings">
    <li v-for="(f, i) in findings" :key="i" class="border-b border-line">
      <button
        class="grid w-full grid-cols-[5.5rem_4.5rem_1fr] gap-2 py-1.5 text-left text-table hover:bg-sunk"
        @click="$emit('go', f.line)"
      >
        <span class="font-medium" :class="look[f.severity]"
          ><span aria-hidden="true">{{ mark[f.severity] }}</span> {{ f.severity }}</span
        >
        <span class="machine text-soft">line {{ f.line }}</span>
        <span class="min-w-0"
          ><span class="block">{{ sentence(f.reason) }}</span
          ><span v-if="f.fix" class="block text-soft">{{ sentence(f.fix) }}</span></span
        >
      </button>
    </li>
  </ul>
  <p v-else-if="tried" class="mt-3 text-table text-healthy">
    <span aria-hidden="true">●</span> Nothing is found
  </p>
</template>
