<script setup lang="ts">
import { PlusIcon, XMarkIcon } from '@heroicons/vue/20/solid'
import { computed, ref } from 'vue'
import { simple, typed, type FieldProps, type Value } from '../composables/tree'
import FieldHead from './FieldHead.vue'

/** A place of a form that holds keys of the writer's choice. */
const props = defineProps<FieldProps>()
const emit = defineEmits<{ edit: [path: string[], value: unknown] }>()
const doc = computed(() => props.of.forms.find((f) => f.doc)?.doc)
const entries = computed(() =>
  props.value && typeof props.value === 'object'
    ? Object.entries(props.value as Record<string, Value>)
    : [],
)
const newKey = ref('')

const set = (k: string, text: string) =>
  emit('edit', [...props.path, k], typed(text, props.of.any?.forms ?? []))
const setList = (k: string, text: string) =>
  emit(
    'edit',
    [...props.path, k],
    text
      .split(',')
      .map((x) => x.trim())
      .filter(Boolean),
  )

function add(e: Event) {
  const input = e.target as HTMLInputElement
  if (!newKey.value || !input.value) return
  set(newKey.value, input.value)
  newKey.value = input.value = ''
}
</script>

<template>
  <div>
    <p class="flex items-center gap-2 font-medium">
      <FieldHead :label="label" :removable="removable" @remove="emit('edit', path, null)" />
    </p>
    <div
      v-for="[k, v] in entries"
      :key="k"
      class="mt-1 grid grid-cols-[10rem_1fr_2rem] items-center gap-2"
    >
      <span class="machine truncate">{{ k }}</span>
      <input
        v-if="simple(v)"
        class="field machine !h-8 min-w-0"
        :value="v ?? ''"
        :aria-label="`${label} ${k}`"
        @change="set(k, ($event.target as HTMLInputElement).value)"
      />
      <input
        v-else-if="Array.isArray(v)"
        class="field machine !h-8 min-w-0"
        :value="v.join(', ')"
        :aria-label="`${label} ${k}`"
        @change="setList(k, ($event.target as HTMLInputElement).value)"
      />
      <span v-else class="text-table text-soft">see the text</span>
      <button
        type="button"
        class="text-soft hover:text-failing"
        :aria-label="`Remove ${k}`"
        @click="emit('edit', [...path, k], null)"
      >
        <XMarkIcon class="size-4" />
      </button>
    </div>
    <div class="mt-1 grid grid-cols-[10rem_1fr_2rem] items-center gap-2">
      <input
        v-model="newKey"
        class="field machine !h-8 min-w-0"
        placeholder="key"
        :aria-label="`New key of ${label}`"
      /><input
        class="field machine !h-8 min-w-0"
        placeholder="value"
        :aria-label="`New value of ${label}`"
        @change="add"
      /><PlusIcon class="size-4 text-soft" aria-hidden="true" />
    </div>
    <p v-if="doc" class="mt-1 text-table text-soft">{{ doc }}</p>
  </div>
</template>
