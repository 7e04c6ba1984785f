<script setup lang="ts">
import { computed, nextTick, ref, watch } from 'vue'
import { byteLength } from '../composables/marks'
import { template, useWorkbench, type Row } from '../composables/workbench'
import Marked from './Marked.vue'
import WorkEffects from './WorkEffects.vue'

/** One record before and after, side by side, with what each step did. A part of the line that is selected becomes a field. */
const props = defineProps<{ row: Row }>()
const { format, carve } = useWorkbench()
const reveal = ref(false)
const line = ref<HTMLElement>()
const part = ref<{ text: string; start: number; end: number }>()
const name = ref('')
const type = ref('')
const naming = ref<HTMLInputElement>()
const types = ['text', 'token', 'quoted', 'int', 'float', 'ip', 'time', 'remainder']
const original = computed(() => props.row.original ?? props.row.body)
const fields = computed(() => Object.entries(props.row.fields))
const marksIn = (where: string) => (props.row.marks ?? []).filter((m) => m.in === where)
const shown = (v: unknown) => (v !== null && typeof v === 'object' ? JSON.stringify(v) : String(v))
const kind = (v: unknown) =>
  typeof v === 'number'
    ? Number.isInteger(v)
      ? 'int'
      : 'float'
    : typeof v === 'boolean'
      ? 'bool'
      : typeof v === 'object'
        ? 'json'
        : 'text'
watch(
  () => props.row,
  () => (part.value = undefined),
)

/** Where in the line the selection is, in bytes. Masked blocks count whole. */
function select() {
  const s = window.getSelection()
  if (
    !s ||
    s.isCollapsed ||
    !line.value ||
    !s.anchorNode ||
    !line.value.contains(s.anchorNode) ||
    !s.focusNode ||
    !line.value.contains(s.focusNode)
  )
    return
  const range = s.getRangeAt(0)
  const place = (node: Node, offset: number, end: boolean) => {
    const piece = (node instanceof Element ? node : node.parentElement)?.closest<HTMLElement>(
      '[data-from]',
    )
    if (!piece) return end ? byteLength(original.value) : 0
    if (piece.classList.contains('masked') && !reveal.value)
      return Number(end ? piece.dataset.to : piece.dataset.from)
    return (
      Number(piece.dataset.from) +
      byteLength(
        (node.textContent ?? '').slice(0, node instanceof Element ? (end ? undefined : 0) : offset),
      )
    )
  }
  const start = place(range.startContainer, range.startOffset, false)
  const end = place(range.endContainer, range.endOffset, true)
  if (end <= start) return
  part.value = { text: range.toString(), start, end }
  name.value = ''
  type.value = ''
  void nextTick(() => naming.value?.focus())
}
async function make() {
  if (
    part.value &&
    (await carve(
      original.value.split('\n')[0]!,
      part.value.start,
      part.value.end,
      name.value,
      type.value,
    ))
  )
    part.value = undefined
}
</script>

<template>
  <section :aria-label="`Record at line ${row.line}`" class="mt-4">
    <div class="mb-2 flex flex-wrap items-baseline gap-4">
      <h2 class="text-section font-semibold">
        Line {{ row.line }}<span v-if="row.lines > 1"> to {{ row.line + row.lines - 1 }}</span>
      </h2>
      <label v-if="row.private?.length" class="flex items-center gap-2 text-table"
        ><input v-model="reveal" type="checkbox" /> Show private data in the clear</label
      >
      <span v-if="row.truncated" class="text-degraded">▲ cut at the bound of a record</span>
    </div>
    <div class="grid gap-6 lg:grid-cols-2">
      <div class="min-w-0">
        <h3 class="mb-1 text-table font-medium text-soft">
          As it came in — select a part to make it a field
        </h3>
        <div
          ref="line"
          class="rounded-md border border-line bg-sheet p-3"
          @mouseup="select"
          @keyup="select"
        >
          <Marked :text="original" :marks="row.private ?? []" :reveal="reveal" />
        </div>
        <form
          v-if="part"
          class="mt-2 flex flex-wrap items-end gap-2 rounded-md border border-accent p-3"
          @submit.prevent="make"
        >
          <p class="w-full text-table">
            Make <span class="machine font-medium">{{ part.text }}</span> a field of the template{{
              template(format) ? '' : ', which is begun for it'
            }}
          </p>
          <label class="text-table"
            ><span class="block font-medium">Name</span
            ><input
              ref="naming"
              v-model="name"
              class="field machine !h-8 w-40"
              required
              pattern="[A-Za-z0-9_.\-]+"
          /></label>
          <label class="text-table"
            ><span class="block font-medium">Type</span
            ><select v-model="type" class="field !h-8">
              <option value="">as it looks</option>
              <option v-for="t in types" :key="t">{{ t }}</option>
            </select></label
          >
          <button class="button !h-8">Make it a field</button
          ><button type="button" class="button quiet !h-8" @click="part = undefined">Cancel</button>
        </form>
      </div>
      <div class="min-w-0">
        <h3 class="mb-1 text-table font-medium text-soft">
          {{
            row.dropped
              ? `It does not leave the host: ${row.dropped}`
              : `As it goes out to ${(row.to ?? []).join(', ') || 'nowhere'}`
          }}
        </h3>
        <div
          class="rounded-md border border-line bg-sheet p-3"
          :class="{ 'opacity-60': row.dropped }"
        >
          <p :class="{ 'line-through': row.dropped }">
            <Marked :text="row.body" :marks="marksIn('body')" />
          </p>
          <dl
            v-if="fields.length"
            class="mt-2 grid grid-cols-[max-content_1fr] gap-x-4 gap-y-0.5 border-t border-line pt-2 text-table"
          >
            <template v-for="[n, v] in fields" :key="n">
              <dt class="machine text-soft">{{ n }}</dt>
              <dd class="min-w-0" :class="`type-${kind(v)}`">
                <Marked :text="shown(v)" :marks="marksIn(n)" />
              </dd>
            </template>
          </dl>
          <p
            v-if="row.weight || row.masked?.length"
            class="mt-2 border-t border-line pt-2 text-table text-soft"
          >
            Notes that go with it:<span v-if="row.weight"> stands for {{ row.weight }} records</span
            ><span v-if="row.masked?.length"> masked by {{ row.masked.join(', ') }}</span>
          </p>
        </div>
      </div>
    </div>
    <WorkEffects :row="row" />
  </section>
</template>
