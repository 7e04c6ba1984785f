<script setup lang="ts">
import { computed, useId } from 'vue'
import type { Names } from '../composables/completion'
import { typed, type Branch, type Value } from '../composables/tree'

/** A place of a form that holds one value. */
const props = defineProps<{
  of: Branch
  value: Value | undefined
  path: string[]
  names: Names
  label: string
}>()
const emit = defineEmits<{ edit: [path: string[], value: unknown] }>()
const id = useId()
const doc = computed(() => props.of.forms.find((f) => f.doc)?.doc)
const choices = computed(() => {
  const f = props.of.forms
  if (f.some((x) => x.type === 'boolean')) return ['true', 'false']
  return f.find((x) => x.choices)?.choices
})
const offered = computed(() =>
  props.of.forms.flatMap((f) => (f.names ? (props.names[f.names] ?? []) : [])),
)
const examples: Record<string, string> = { size: '64MiB', duration: '30s' }
const hint = computed(
  () =>
    props.of.forms.find((f) => f.default)?.default ?? examples[props.of.forms[0]?.type ?? ''] ?? '',
)
const set = (e: Event) =>
  emit('edit', props.path, typed((e.target as HTMLInputElement).value, props.of.forms))
</script>

<template>
  <div>
    <label :for="id" class="block font-medium"
      >{{ label
      }}<span v-if="of.forms.some((f) => f.need)" class="font-normal text-soft">
        (must be there)</span
      ></label
    >
    <select
      v-if="choices"
      :id="id"
      class="field mt-1 !h-8 w-full"
      :value="String(value ?? '')"
      @change="set"
    >
      <option value="">{{ hint ? `not said: ${hint}` : 'not said' }}</option>
      <option v-for="c in choices" :key="c" :value="c">{{ c }}</option>
    </select>
    <template v-else>
      <input
        :id="id"
        class="field machine mt-1 !h-8 w-full"
        :value="value ?? ''"
        :placeholder="hint"
        :list="offered.length ? `${id}-names` : undefined"
        :aria-describedby="`${id}-help`"
        @change="set"
      />
      <datalist v-if="offered.length" :id="`${id}-names`">
        <option v-for="n in offered" :key="n" :value="n" />
      </datalist>
    </template>
    <p v-if="doc" :id="`${id}-help`" class="mt-1 text-table text-soft">{{ doc }}</p>
  </div>
</template>
