<script setup lang="ts">
import { XMarkIcon } from '@heroicons/vue/20/solid'
import { computed, useId } from 'vue'
import { simple, typed, type FieldProps } from '../composables/tree'
import FieldHead from './FieldHead.vue'
import FormField from './FormField.vue'

/** A place of a form that holds a list. */
const props = defineProps<FieldProps>()
const emit = defineEmits<{ edit: [path: string[], value: unknown] }>()
const id = useId()
const forward = (path: string[], value: unknown) => emit('edit', path, value)
const doc = computed(() => props.of.forms.find((f) => f.doc)?.doc)
const items = computed(() => (Array.isArray(props.value) ? props.value : []))
const offered = computed(
  () =>
    props.of.item?.forms.flatMap((f) =>
      f.names ? (props.names[f.names] ?? []) : (f.choices ?? []),
    ) ?? [],
)

const set = (i: number, e: Event) =>
  emit(
    'edit',
    [...props.path, `#${i}`],
    typed((e.target as HTMLInputElement).value, props.of.item?.forms ?? []),
  )

/** Adds an item, which makes the list where there is none. */
function add(e: Event, item: (text: string) => unknown) {
  const input = e.target as HTMLInputElement | HTMLSelectElement
  if (!input.value) return
  const v = item(input.value)
  if (props.value === undefined) emit('edit', props.path, [v])
  else emit('edit', [...props.path, '#+'], v)
  input.value = ''
}
const addItem = (e: Event) => add(e, (text) => typed(text, props.of.item?.forms ?? []))
const addObject = (e: Event) => add(e, (key) => ({ [key]: '' }))
</script>

<template>
  <div>
    <p class="flex items-center gap-2 font-medium">
      <FieldHead :label="label" :removable="removable" @remove="emit('edit', path, null)" />
    </p>
    <div v-for="(v, i) in items" :key="i" class="mt-1 grid grid-cols-[1fr_2rem] items-start gap-2">
      <input
        v-if="simple(v)"
        class="field machine !h-8 min-w-0"
        :value="v ?? ''"
        :list="`${id}-names`"
        :aria-label="`${label} ${i + 1}`"
        @change="set(i, $event)"
      />
      <FormField
        v-else-if="of.item"
        :of="of.item"
        :value="v"
        :path="[...path, `#${i}`]"
        :names="names"
        :label="`${label} ${i + 1}`"
        @edit="forward"
      />
      <button
        type="button"
        class="pt-1.5 text-soft hover:text-failing"
        :aria-label="`Remove ${label} ${i + 1}`"
        @click="emit('edit', [...path, `#${i}`], null)"
      >
        <XMarkIcon class="size-4" />
      </button>
    </div>
    <select
      v-if="of.item?.children.length"
      class="field mt-1 !h-8 text-table"
      :aria-label="`Add to ${label}`"
      @change="addObject"
    >
      <option value="">Add one with…</option>
      <option
        v-for="c in of.item.children.filter((x) => !x.forms.every((f) => f.later))"
        :key="c.name"
        :value="c.name"
      >
        {{ c.name }}
      </option>
    </select>
    <input
      v-else
      class="field machine mt-1 !h-8 w-full min-w-0"
      placeholder="one more"
      :list="`${id}-names`"
      :aria-label="`One more of ${label}`"
      @change="addItem"
    />
    <datalist :id="`${id}-names`">
      <option v-for="n in offered" :key="n" :value="n" />
    </datalist>
    <p v-if="doc" class="mt-1 text-table text-soft">{{ doc }}</p>
  </div>
</template>
