<script setup lang="ts">
import { PlusIcon, XMarkIcon } from '@heroicons/vue/20/solid'
import { computed, ref, useId } from 'vue'
import type { Names } from '../composables/completion'
import { typed, type Branch, type Value } from '../composables/tree'

/** One place of a definition as a form shows it; it calls itself for what is inside. */
const props = defineProps<{ of: Branch; value: Value | undefined; path: string[]; names: Names; label: string; removable?: boolean }>()
const emit = defineEmits<{ edit: [path: string[], value: unknown] }>()
const id = useId()
const forward = (path: string[], value: unknown) => emit('edit', path, value)

const form = computed(() => {
  const v = props.value
  if (Array.isArray(v)) return 'list'
  if (v !== null && typeof v === 'object') return 'map'
  if (v === undefined || v === null) {
    const t = props.of.forms[0]?.type
    return t === 'list' ? 'list' : t === 'table' || t === 'object' ? 'map' : 'scalar'
  }
  return 'scalar'
})
const doc = computed(() => props.of.forms.find((f) => f.doc)?.doc)
const choices = computed(() => {
  const f = props.of.forms
  if (f.some((x) => x.type === 'boolean')) return ['true', 'false']
  return f.find((x) => x.choices)?.choices
})
const offered = computed(() => props.of.forms.flatMap((f) => (f.names ? (props.names[f.names] ?? []) : [])))
const hint = computed(() => props.of.forms.find((f) => f.default)?.default ?? ({ size: '64MiB', duration: '30s' } as Record<string, string>)[props.of.forms[0]?.type ?? ''] ?? '')
const items = computed(() => (Array.isArray(props.value) ? props.value : []))
const entries = computed(() => (form.value === 'map' && props.value && typeof props.value === 'object' ? Object.entries(props.value as Record<string, Value>) : []))
const shown = computed(() => props.of.children.filter((c) => entries.value.some(([k]) => k === c.name) || c.forms.some((f) => f.need && !f.later) || (!props.path.length && c.name === 'about')))
const more = computed(() => props.of.children.filter((c) => !shown.value.includes(c) && !c.forms.every((f) => f.later)))
const valueOf = (name: string) => entries.value.find(([k]) => k === name)?.[1]
const opened = ref<string[]>([])
const extra = computed(() => more.value.filter((c) => opened.value.includes(c.name)))
const newKey = ref('')

const set = (e: Event) => emit('edit', props.path, typed((e.target as HTMLInputElement).value, props.of.forms))
const setItem = (i: number, e: Event) => emit('edit', [...props.path, `#${i}`], typed((e.target as HTMLInputElement).value, props.of.item?.forms ?? []))
const setEntry = (k: string, e: Event) => emit('edit', [...props.path, k], typed((e.target as HTMLInputElement).value, props.of.any?.forms ?? []))
const simple = (v: Value) => v === null || typeof v !== 'object'

function addItem(e: Event) {
  const input = e.target as HTMLInputElement
  if (!input.value) return
  const v = typed(input.value, props.of.item?.forms ?? [])
  emit('edit', props.value === undefined ? props.path : [...props.path, '#+'], props.value === undefined ? [v] : v)
  input.value = ''
}
function addObject(e: Event) {
  const select = e.target as HTMLSelectElement
  const v = { [select.value]: '' }
  emit('edit', props.value === undefined ? props.path : [...props.path, '#+'], props.value === undefined ? [v] : v)
  select.value = ''
}
function addEntry(e: Event) {
  const input = e.target as HTMLInputElement
  if (!newKey.value || !input.value) return
  emit('edit', [...props.path, newKey.value], typed(input.value, props.of.any?.forms ?? []))
  newKey.value = input.value = ''
}
function open(e: Event) {
  const select = e.target as HTMLSelectElement
  opened.value.push(select.value)
  select.value = ''
}
</script>

<template>
  <fieldset v-if="form === 'map' && of.children.length" class="min-w-0" :class="path.length ? 'rounded-md border border-line p-3' : ''">
    <legend v-if="path.length" class="flex items-center gap-2 px-1 font-medium">{{ label }}<button v-if="removable" type="button" class="text-soft hover:text-failing" :aria-label="`Remove ${label}`" @click="emit('edit', path, null)"><XMarkIcon class="size-4" /></button></legend>
    <p v-if="path.length && doc" class="mb-2 text-table text-soft">{{ doc }}</p>
    <div class="space-y-3">
      <FormField v-for="c in [...shown, ...extra]" :key="c.name" :of="c" :value="valueOf(c.name)" :path="[...path, c.name]" :names="names" :label="c.name" :removable="valueOf(c.name) !== undefined" @edit="forward" />
      <select v-if="more.length > extra.length" class="field !h-8 text-table" :aria-label="`Add a key to ${label}`" @change="open">
        <option value="">Add…</option><option v-for="c in more.filter((m) => !extra.includes(m))" :key="c.name" :value="c.name">{{ c.name }}</option>
      </select>
    </div>
  </fieldset>
  <div v-else-if="form === 'map'">
    <p class="flex items-center gap-2 font-medium">{{ label }}<button v-if="removable" type="button" class="text-soft hover:text-failing" :aria-label="`Remove ${label}`" @click="emit('edit', path, null)"><XMarkIcon class="size-4" /></button></p>
    <div v-for="[k, v] in entries" :key="k" class="mt-1 grid grid-cols-[10rem_1fr_2rem] items-center gap-2">
      <span class="machine truncate">{{ k }}</span>
      <input v-if="simple(v)" class="field machine !h-8 min-w-0" :value="v ?? ''" :aria-label="`${label} ${k}`" @change="setEntry(k, $event)" />
      <input v-else-if="Array.isArray(v)" class="field machine !h-8 min-w-0" :value="v.join(', ')" :aria-label="`${label} ${k}`" @change="emit('edit', [...path, k], ($event.target as HTMLInputElement).value.split(',').map((x) => x.trim()).filter(Boolean))" />
      <span v-else class="text-table text-soft">see the text</span>
      <button type="button" class="text-soft hover:text-failing" :aria-label="`Remove ${k}`" @click="emit('edit', [...path, k], null)"><XMarkIcon class="size-4" /></button>
    </div>
    <div class="mt-1 grid grid-cols-[10rem_1fr_2rem] items-center gap-2">
      <input v-model="newKey" class="field machine !h-8 min-w-0" placeholder="key" :aria-label="`New key of ${label}`" /><input class="field machine !h-8 min-w-0" placeholder="value" :aria-label="`New value of ${label}`" @change="addEntry" /><PlusIcon class="size-4 text-soft" aria-hidden="true" />
    </div>
    <p v-if="doc" class="mt-1 text-table text-soft">{{ doc }}</p>
  </div>
  <div v-else-if="form === 'list'">
    <p class="flex items-center gap-2 font-medium">{{ label }}<button v-if="removable" type="button" class="text-soft hover:text-failing" :aria-label="`Remove ${label}`" @click="emit('edit', path, null)"><XMarkIcon class="size-4" /></button></p>
    <div v-for="(v, i) in items" :key="i" class="mt-1 grid grid-cols-[1fr_2rem] items-start gap-2">
      <input v-if="simple(v)" class="field machine !h-8 min-w-0" :value="v ?? ''" :list="`${id}-names`" :aria-label="`${label} ${i + 1}`" @change="setItem(i, $event)" />
      <FormField v-else-if="of.item" :of="of.item" :value="v" :path="[...path, `#${i}`]" :names="names" :label="`${label} ${i + 1}`" @edit="forward" />
      <button type="button" class="pt-1.5 text-soft hover:text-failing" :aria-label="`Remove ${label} ${i + 1}`" @click="emit('edit', [...path, `#${i}`], null)"><XMarkIcon class="size-4" /></button>
    </div>
    <select v-if="of.item?.children.length" class="field mt-1 !h-8 text-table" :aria-label="`Add to ${label}`" @change="addObject"><option value="">Add one with…</option><option v-for="c in of.item.children.filter((x) => !x.forms.every((f) => f.later))" :key="c.name" :value="c.name">{{ c.name }}</option></select>
    <input v-else class="field machine mt-1 !h-8 w-full min-w-0" placeholder="one more" :list="`${id}-names`" :aria-label="`One more of ${label}`" @change="addItem" />
    <datalist :id="`${id}-names`"><option v-for="n in of.item?.forms.flatMap((f) => (f.names ? (names[f.names] ?? []) : (f.choices ?? []))) ?? []" :key="n" :value="n" /></datalist>
    <p v-if="doc" class="mt-1 text-table text-soft">{{ doc }}</p>
  </div>
  <div v-else>
    <label :for="id" class="block font-medium">{{ label }}<span v-if="of.forms.some((f) => f.need)" class="font-normal text-soft"> (must be there)</span></label>
    <select v-if="choices" :id="id" class="field mt-1 !h-8 w-full" :value="String(value ?? '')" @change="set"><option value="">{{ hint ? `not said: ${hint}` : 'not said' }}</option><option v-for="c in choices" :key="c" :value="c">{{ c }}</option></select>
    <template v-else>
      <input :id="id" class="field machine mt-1 !h-8 w-full" :value="value ?? ''" :placeholder="hint" :list="offered.length ? `${id}-names` : undefined" :aria-describedby="`${id}-help`" @change="set" />
      <datalist v-if="offered.length" :id="`${id}-names`"><option v-for="n in offered" :key="n" :value="n" /></datalist>
    </template>
    <p v-if="doc" :id="`${id}-help`" class="mt-1 text-table text-soft">{{ doc }}</p>
  </div>
</template>
