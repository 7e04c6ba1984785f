<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Seen } from '../composables/peek'
import Marked from './Marked.vue'
import WorkEffects from './WorkEffects.vue'

/** A record as it came in, and as it leaves: on two lines, the steps behind a click. */
const props = defineProps<{ seen: Seen; clear: boolean; hosts: boolean }>()
const open = ref(false)
const r = computed(() => props.seen.record)
const row = computed(() => ({ ...r.value, line: props.seen.n, lines: 1 }))
const fields = computed(() => Object.entries(r.value.fields))
const marksIn = (where: string) => (r.value.marks ?? []).filter((m) => m.in === where)
const shown = (v: unknown) => (v !== null && typeof v === 'object' ? JSON.stringify(v) : String(v))
const kind = (v: unknown) =>
  ({ number: Number.isInteger(v) ? 'int' : 'float', boolean: 'bool', object: 'json' })[
    typeof v as string
  ] ?? 'text'
const by = computed(() => {
  const e = r.value.effects?.find((x) => x.drops)
  return e ? `step ${e.step}, ${e.kind}` : (r.value.dropped ?? '')
})
</script>

<template>
  <li class="border-b border-line py-2 text-table">
    <div class="flex items-start gap-3">
      <button
        class="w-4 shrink-0 text-soft"
        :aria-expanded="open"
        :aria-label="open ? 'Hide the steps' : 'Show the steps'"
        @click="open = !open"
      >
        {{ open ? '▾' : '▸' }}
      </button>
      <div class="min-w-0 flex-1">
        <p :title="seen.file">
          <RouterLink v-if="hosts" class="machine mr-3 text-soft" :to="`/hosts/${seen.host}`">{{
            seen.host
          }}</RouterLink><Marked
            :text="r.original ?? r.body"
            :marks="r.private ?? []"
            :reveal="clear"
          />
        </p>
        <p v-if="r.dropped" class="mt-0.5">
          <span class="text-degraded">✖ {{ by }}</span
          >&ensp;<s class="text-soft"
            ><span v-for="[n, v] in fields" :key="n" class="machine mr-3"
              >{{ n }}={{ shown(v) }}</span
            ><span v-if="!fields.length" class="machine">{{ r.body }}</span></s
          >
        </p>
        <p v-else class="mt-0.5">
          <span class="text-soft">→ {{ (r.to ?? []).join(', ') }}</span
          ><span v-if="!r.read" class="ml-3 text-degraded">▲ not read by its format</span>
          <span v-if="r.level" class="machine ml-3">{{ r.level }}</span>
          <span v-for="[n, v] in fields" :key="n" class="machine ml-3"
            ><span class="text-soft">{{ n }}=</span
            ><Marked :class="`type-${kind(v)}`" :text="shown(v)" :marks="marksIn(n)"
          /></span>
        </p>
        <WorkEffects v-if="open" :row="row" />
      </div>
    </div>
  </li>
</template>
