<script setup lang="ts">
import {
  Combobox,
  ComboboxInput,
  ComboboxOption,
  ComboboxOptions,
  Dialog,
  DialogPanel,
} from '@headlessui/vue'
import { useQuery } from '@tanstack/vue-query'
import { computed, onBeforeUnmount, onMounted, ref } from 'vue'
import { useRouter } from 'vue-router'
import { client, take } from '../api/client'
import { useCatalogue } from '../api/queries'
import { actions, administration, fit, places, type Found } from '../composables/places'

/** Reaches every host, definition, page and action by name: Ctrl-K, or Cmd-K. */
const router = useRouter()
const open = ref(false)
const typed = ref('')
const { data: definitions } = useCatalogue()
const { data: hosts } = useQuery({
  queryKey: ['hosts', 'palette', typed],
  queryFn: () =>
    take(client.GET('/hosts', { params: { query: { q: typed.value.trim(), limit: 8 } } })),
  enabled: computed(() => open.value && typed.value.trim().length > 1),
  placeholderData: (old) => old,
})
const found = computed<Found[]>(() => {
  const all: Found[] = [
    ...[...places, ...administration].map((p) => ({ kind: 'page', name: p.name, to: p.to })),
    ...actions.map((a) => ({ kind: 'action', ...a })),
    ...(definitions.value?.items ?? []).map((d) => ({
      kind: d.kind,
      name: d.name,
      to: `/catalogue/${d.kind}/${d.name}`,
    })),
    ...(typed.value.trim().length > 1 ? (hosts.value?.items ?? []) : []).map((h) => ({
      kind: 'host',
      name: h.name,
      to: `/hosts/${h.name}`,
    })),
  ]
  return all
    .map((f) => ({ f, n: fit(f.name, typed.value) }))
    .filter((x) => x.n > 0 && (typed.value.trim() !== '' || x.f.kind === 'page'))
    .sort((a, b) => b.n - a.n || (typed.value.trim() ? a.f.name.localeCompare(b.f.name) : 0))
    .slice(0, 12)
    .map((x) => x.f)
})
const go = (f: Found | null) => {
  if (!f) return
  open.value = false
  void router.push(f.to)
}
function key(e: KeyboardEvent) {
  if (e.key.toLowerCase() !== 'k' || !(e.ctrlKey || e.metaKey) || e.shiftKey || e.altKey) return
  e.preventDefault()
  typed.value = ''
  open.value = !open.value
}
onMounted(() => window.addEventListener('keydown', key))
onBeforeUnmount(() => window.removeEventListener('keydown', key))
defineExpose({ show: () => ((typed.value = ''), (open.value = true)) })
</script>

<template>
  <Dialog :open="open" class="relative z-40" @close="open = false">
    <div class="fixed inset-0 bg-ink/40" aria-hidden="true" />
    <div class="fixed inset-0 flex justify-center p-4 pt-[12vh]">
      <DialogPanel class="h-fit w-full max-w-xl rounded-lg border border-line bg-sheet p-3">
        <Combobox v-slot="{ activeOption }" @update:model-value="go">
          <ComboboxInput
            class="field w-full"
            aria-label="Go to a host, definition, page or action"
            placeholder="A host, definition, page or action"
            autocomplete="off"
            @change="typed = $event.target.value"
            @keydown.enter.capture="!activeOption && go(found[0] ?? null)"
          />
          <ComboboxOptions static class="mt-2 max-h-[50vh] overflow-y-auto">
            <ComboboxOption
              v-for="f in found"
              :key="f.kind + f.to + f.name"
              v-slot="{ active }"
              :value="f"
              ><div
                class="flex h-9 items-center justify-between gap-4 rounded px-2"
                :class="{ 'bg-sunk': active }"
              >
                <span
                  class="min-w-0 truncate"
                  :class="{ machine: f.kind !== 'page' && f.kind !== 'action' }"
                  >{{ f.name }}</span><span class="text-table text-soft">{{ f.kind }}</span>
              </div></ComboboxOption
            >
          </ComboboxOptions>
          <p v-if="!found.length" class="px-2 py-2 text-soft">Nothing has such a name.</p>
        </Combobox>
      </DialogPanel>
    </div>
  </Dialog>
</template>
