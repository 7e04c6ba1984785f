<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { useCatalogue, useLanguage } from '../api/queries'
import { builtIn, completer, type Names } from '../composables/completion'
import { moment, sentence } from '../composables/format'
import { useWorkbench, type Part } from '../composables/workbench'
import CodeEditor from './CodeEditor.vue'

/** The candidates as tabs, and the texts that are tried: format, source, masks. */
const w = useWorkbench()
const { candidates, chosen, part, format, source, masks, tried, choose } = w
const { data: language } = useLanguage()
const { data: catalogue } = useCatalogue()
const names = computed<Names>(() => {
  const out: Names = { mask: [...builtIn.mask!], format: [...builtIn.format!] }
  for (const x of catalogue.value?.items ?? []) (out[x.kind] ??= []).push(x.name)
  return out
})
const parts: { part: Part; word: string; kind: string }[] = [
  { part: 'format', word: 'Format', kind: 'format' },
  { part: 'source', word: 'Source, steps and ways', kind: 'source' },
  { part: 'masks', word: 'Masks and guards', kind: 'mask' },
]
const text = computed({
  get: () => w.bench[part.value],
  set: (v: string) => (w.bench[part.value] = v),
})
const complete = completer(
  () => language.value,
  () => names.value,
  () => parts.find((p) => p.part === part.value)!.kind,
)
const candidate = computed(() => candidates.value[chosen.value])

/** Where a problem stands: in which text, and on which of its lines. The texts are sent one after the other. */
const placed = computed(() => {
  const order: Part[] = ['format', 'masks', 'source']
  return (tried.value?.problems ?? []).map((p) => {
    let before = 0
    for (const o of order) {
      const t = w.bench[o]
      if (!t.trim()) continue
      const size = t.replace(/\n$/, '').split('\n').length
      if (p.line > before && p.line <= before + size)
        return { ...p, part: o, line: p.line - before }
      before += size + 1
    }
    return {
      ...p,
      part: (p.kind === 'source'
        ? 'source'
        : p.kind === 'mask' || p.kind === 'guard'
          ? 'masks'
          : 'format') as Part,
      line: 1,
    }
  })
})
const findings = computed(() =>
  placed.value
    .filter((p) => p.part === part.value)
    .map(
      (p) =>
        ({
          code: 'try',
          severity: 'error',
          kind: p.kind ?? '',
          name: p.name ?? '',
          file: '',
          line: p.line,
          column: p.column || 1,
          hosts: [],
          reason: p.reason,
          fix: p.fix ?? '',
        }) as Schemas['Finding'],
    ),
)
const share = (n: number) => `${n < 1 ? Math.min(99, Math.round(n * 100)) : 100}%`
</script>

<template>
  <section aria-label="How the lines are treated" class="min-w-0">
    <div
      v-if="candidates.length"
      class="mb-2 flex items-end gap-1 overflow-x-auto border-b border-line"
      role="tablist"
      aria-label="Ways to read the lines"
    >
      <button
        v-for="(c, i) in candidates.slice(0, 6)"
        :key="i"
        role="tab"
        :aria-selected="chosen === i"
        class="-mb-px flex items-baseline gap-2 border-b-2 px-2 pb-1.5 whitespace-nowrap"
        :class="
          chosen === i ? 'border-accent font-medium' : 'border-transparent text-soft hover:text-ink'
        "
        @click="choose(i)"
      >
        {{ c.begin ? `${c.kind}, several lines` : c.kind
        }}<span class="machine text-soft">{{ share(c.share) }}</span>
      </button>
      <span v-if="chosen < 0" class="ml-2 pb-1.5 text-table text-soft">edited by hand</span>
    </div>
    <div v-if="candidate" class="mb-3 text-table">
      <p>
        <strong class="font-medium">{{ share(candidate.sure) }} sure.</strong> Reads
        {{ share(candidate.share) }} of the records{{
          candidate.begin ? ', each of several lines' : ''
        }}<template v-if="candidate.from"
          >; times from {{ moment(candidate.from) }} to {{ moment(candidate.to) }}</template
        >.
      </p>
      <p v-for="x in candidate.warnings" :key="x" class="text-degraded">
        <span aria-hidden="true">▲</span> {{ sentence(x) }}
      </p>
    </div>
    <nav class="mb-2 flex flex-wrap gap-4 text-table" aria-label="Texts">
      <button
        v-for="p in parts"
        :key="p.part"
        :aria-pressed="part === p.part"
        :class="
          part === p.part ? 'font-medium underline underline-offset-4' : 'text-soft hover:text-ink'
        "
        @click="part = p.part"
      >
        {{ p.word
        }}<span
          v-if="placed.some((x) => x.part === p.part)"
          class="ml-1 text-failing"
          aria-label="has a problem"
          >✖</span
        >
      </button>
    </nav>
    <CodeEditor
      :key="part"
      v-model="text"
      class="[&_.cm-editor]:!max-h-72 [&_.cm-editor]:!min-h-44"
      :findings="findings"
      :complete="complete"
      :label="`Text of the ${part}`"
    />
    <p v-for="(p, i) in placed" :key="i" role="alert" class="mt-2 text-table text-failing">
      <span aria-hidden="true">✖</span> {{ p.part !== part ? `In the ${p.part}: ` : ''
      }}{{ p.line > 1 ? `line ${p.line}: ` : '' }}{{ p.reason }}{{ p.fix ? `; ${p.fix}` : '' }}
    </p>
    <p v-if="!format && !source && !masks" class="mt-2 text-table text-soft">
      What reads the lines appears here as soon as there are some; every word of it can be changed.
    </p>
  </section>
</template>
