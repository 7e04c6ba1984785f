<script setup lang="ts">
import { Dialog, DialogDescription, DialogPanel, DialogTitle } from '@headlessui/vue'
import { ref } from 'vue'
import { client, ProblemError, take, type Schemas } from '../api/client'

/** Takes a list of hosts from a file, shows what it would change, and imports it. */
const shown = defineModel<boolean>({ required: true })
const file = ref<{ file: string; text: string }>()
const preview = ref<Schemas['ImportResult']>()
const error = ref('')
const findings = ref<Schemas['Finding'][]>([])
const busy = ref(false)

async function send(dryRun: boolean) {
  if (!file.value) return
  busy.value = true
  error.value = ''
  findings.value = []
  try {
    const result = await take(client.POST('/inventory', { body: { ...file.value, dryRun } }))
    if (dryRun) preview.value = result
    else close()
  } catch (e) {
    preview.value = undefined
    error.value = e instanceof Error ? e.message : String(e)
    if (e instanceof ProblemError) findings.value = e.problem.findings ?? []
  } finally {
    busy.value = false
  }
}

async function choose(e: Event) {
  const chosen = (e.target as HTMLInputElement).files?.[0]
  if (!chosen) return
  file.value = { file: chosen.name, text: await chosen.text() }
  await send(true)
}

function close() {
  shown.value = false
  file.value = preview.value = undefined
  error.value = ''
  findings.value = []
}
const told = (what: string, list: Schemas['ValueEdit'][]) =>
  list.map((e) => `${what}${e.key}=${e.after}${e.before ? ` (was ${e.before})` : ''}`).join('  ')
</script>

<template>
  <Dialog :open="shown" class="relative z-30" @close="close">
    <div class="fixed inset-0 bg-ink/40" aria-hidden="true" />
    <div class="fixed inset-0 flex items-center justify-center p-4">
      <DialogPanel
        class="flex max-h-full w-full max-w-2xl flex-col rounded-lg border border-line bg-sheet p-6"
      >
        <DialogTitle class="text-section font-semibold">Import hosts</DialogTitle>
        <DialogDescription class="mt-2 text-soft"
          >A list adds hosts before their agents exist, and changes labels and settings of those
          that do. It takes nothing away.</DialogDescription
        >
        <label for="list" class="mt-4 font-medium">List</label>
        <input
          id="list"
          type="file"
          accept=".csv,.yaml,.yml,.json"
          class="field mt-1 pt-1.5"
          aria-describedby="list-help"
          @change="choose"
        />
        <p id="list-help" class="mt-1 text-table text-soft">
          A .csv with the columns <span class="machine">host, label.KEY, setting.NAME</span>, or a
          .yaml or .json list of <span class="machine">{host, labels, settings}</span>.
        </p>
        <div v-if="error" role="alert" class="mt-3 rounded-md border border-failing px-3 py-2">
          <p class="text-failing">{{ error }}</p>
          <p v-for="(f, i) in findings.slice(0, 8)" :key="i" class="machine">
            {{ f.file }}:{{ f.line }}: {{ f.reason }}
          </p>
        </div>
        <template v-if="preview">
          <p class="mt-4 font-medium">
            {{ preview.added }} would be added, {{ preview.changed }} changed,
            {{ preview.same }} stay the same
          </p>
          <ul class="mt-2 min-h-0 flex-1 overflow-y-auto border-t border-line">
            <li
              v-for="c in preview.changes.slice(0, 500)"
              :key="c.host"
              class="grid grid-cols-[5rem_12rem_1fr] gap-3 border-b border-line py-1 text-table"
            >
              <span class="text-soft">{{ c.what }}</span><span class="machine break-all">{{
                c.host
              }}</span
              ><span class="machine break-words"
                >{{ told('', c.labels) }} {{ told('setting ', c.settings) }}</span
              >
            </li>
          </ul>
        </template>
        <div class="mt-4 flex justify-end gap-2">
          <button type="button" class="button quiet" @click="close">Not now</button>
          <button
            type="button"
            class="button"
            :disabled="busy || !preview || preview.added + preview.changed === 0"
            @click="send(false)"
          >
            Import
          </button>
        </div>
      </DialogPanel>
    </div>
  </Dialog>
</template>
