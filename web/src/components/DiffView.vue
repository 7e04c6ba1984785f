<script setup lang="ts">
import type { Schemas } from '../api/client'

/** A difference by lines: unchanged parts are folded by the service. */
defineProps<{ lines: Schemas['DiffLine'][] }>()
const words = { '+': 'added', '-': 'removed', ' ': '' } as const
</script>

<template>
  <pre
    class="machine overflow-x-auto rounded-md border border-line bg-sheet py-2"
  ><template v-for="(l, i) in lines" :key="i"><span
    class="block min-w-max px-4"
    :class="{ 'bg-plus': l.op === '+', 'bg-minus': l.op === '-', 'text-soft': l.text === '…' }"
  ><span class="sr-only">{{ words[l.op] }}</span><span aria-hidden="true" class="inline-block w-5 text-soft select-none">{{ l.op }}</span>{{ l.text }}
</span></template></pre>
</template>
