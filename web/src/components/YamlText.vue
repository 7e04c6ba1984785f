<script setup lang="ts">
import { computed } from 'vue'

/** YAML with line numbers; comments and keys are tinted, lightly. */
const props = defineProps<{ text: string; from?: number }>()

type Piece = { text: string; look: string }

function pieces(line: string): Piece[] {
  const comment = /(^|\s)#.*$/.exec(line)
  const code = comment ? line.slice(0, comment.index) : line
  const out: Piece[] = []
  const key = /^(\s*(?:- )?)([\w.-]+)(:)(?=\s|$)/.exec(code)
  if (key)
    out.push(
      { text: key[1] ?? '', look: '' },
      { text: key[2] ?? '', look: 'font-medium' },
      { text: code.slice((key[1] + key[2]!).length), look: '' },
    )
  else out.push({ text: code, look: '' })
  if (comment) out.push({ text: comment[0], look: 'text-soft' })
  return out
}
const lines = computed(() => props.text.replace(/\n$/, '').split('\n').map(pieces))
</script>

<template>
  <pre class="machine overflow-x-auto rounded-md border border-line bg-sheet py-2"><span
    v-for="(line, i) in lines" :key="i" class="block min-w-max px-4"
  ><span aria-hidden="true" class="mr-4 inline-block w-8 text-right text-soft select-none">{{ i + (from ?? 1) }}</span><span v-for="(p, k) in line" :key="k" :class="p.look">{{ p.text }}</span>
</span></pre>
</template>
