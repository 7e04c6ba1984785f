<script setup lang="ts">
import { computed, ref } from 'vue'
import type { FieldProps, Value } from '../composables/tree'
import FieldHead from './FieldHead.vue'
import FieldList from './FieldList.vue'
import FieldTable from './FieldTable.vue'
import FieldValue from './FieldValue.vue'

/** One place of a definition as a form shows it; it calls itself for what is inside. */
const props = defineProps<FieldProps>()
const emit = defineEmits<{ edit: [path: string[], value: unknown] }>()
const forward = (path: string[], value: unknown) => emit('edit', path, value)

const form = computed(() => {
  const v = props.value
  if (Array.isArray(v)) return FieldList
  const t = props.of.forms[0]?.type
  if (v !== null && typeof v === 'object') return FieldTable
  if (v === undefined || v === null) {
    return t === 'list' ? FieldList : t === 'table' || t === 'object' ? FieldTable : FieldValue
  }
  return FieldValue
})
const keyed = computed(() => form.value === FieldTable && props.of.children.length > 0)
const doc = computed(() => props.of.forms.find((f) => f.doc)?.doc)
const values = computed(() =>
  props.value && typeof props.value === 'object' && !Array.isArray(props.value)
    ? (props.value as Record<string, Value>)
    : {},
)
const has = (name: string) => Object.hasOwn(values.value, name)
const shown = computed(() =>
  props.of.children.filter(
    (c) =>
      has(c.name) ||
      c.forms.some((f) => f.need && !f.later) ||
      (!props.path.length && c.name === 'about'),
  ),
)
const more = computed(() =>
  props.of.children.filter((c) => !shown.value.includes(c) && !c.forms.every((f) => f.later)),
)
const opened = ref<string[]>([])
const extra = computed(() => more.value.filter((c) => opened.value.includes(c.name)))

function open(e: Event) {
  const select = e.target as HTMLSelectElement
  opened.value.push(select.value)
  select.value = ''
}
</script>

<template>
  <fieldset
    v-if="keyed"
    class="min-w-0"
    :class="path.length ? 'rounded-md border border-line p-3' : ''"
  >
    <legend v-if="path.length" class="flex items-center gap-2 px-1 font-medium">
      <FieldHead :label="label" :removable="removable" @remove="emit('edit', path, null)" />
    </legend>
    <p v-if="path.length && doc" class="mb-2 text-table text-soft">{{ doc }}</p>
    <div class="space-y-3">
      <FormField
        v-for="c in [...shown, ...extra]"
        :key="c.name"
        :of="c"
        :value="values[c.name]"
        :path="[...path, c.name]"
        :names="names"
        :label="c.name"
        :removable="values[c.name] !== undefined"
        @edit="forward"
      />
      <select
        v-if="more.length > extra.length"
        class="field !h-8 text-table"
        :aria-label="`Add a key to ${label}`"
        @change="open"
      >
        <option value="">Add…</option>
        <option v-for="c in more.filter((m) => !extra.includes(m))" :key="c.name" :value="c.name">
          {{ c.name }}
        </option>
      </select>
    </div>
  </fieldset>
  <component
    :is="form"
    v-else
    :of="of"
    :value="value"
    :path="path"
    :names="names"
    :label="label"
    :removable="removable"
    @edit="forward"
  />
</template>
