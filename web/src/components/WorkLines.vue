<script setup lang="ts">
import { ref } from 'vue'
import { useWorkbench } from '../composables/workbench'
import { bytes, plural } from '../composables/format'
import WorkFromHost from './WorkFromHost.vue'

/** The lines on the bench: pasted, from a file, or from a host. */
const { lines, from, encoding, zone, lineCount, error, readFile } = useWorkbench()
const input = ref<HTMLInputElement>()
const over = ref(false)
const asking = ref(false)
const zones = Intl.supportedValuesOf('timeZone')
const limit = 4 << 20

async function take(file?: File | null) {
  over.value = false
  if (!file) return
  try {
    from.value = (await readFile(file, limit))
      ? `${file.name}, its first ${bytes(limit)}`
      : file.name
    error.value = ''
  } catch (e) {
    error.value = `${file.name}: ${e instanceof Error ? e.message : String(e)}`
  }
}

/** A file that was opened may be opened again, as it is then. */
async function opened() {
  const field = input.value
  await take(field?.files?.[0])
  if (field) field.value = ''
}
</script>

<template>
  <section
    aria-labelledby="lines-title"
    class="flex min-w-0 flex-col"
    @dragover.prevent="over = true"
    @dragleave="over = false"
    @drop.prevent="take($event.dataTransfer?.files[0])"
  >
    <div class="mb-2 flex flex-wrap items-center gap-x-3 gap-y-2">
      <h2 id="lines-title" class="text-section font-semibold">Lines</h2>
      <span class="min-w-0 flex-1 truncate text-table text-soft" :title="from"
        >{{ lineCount ? plural(lineCount, 'line') : ''
        }}{{ encoding && lineCount ? ` of ${encoding}` : ''
        }}{{ from && lineCount ? `, from ${from}` : '' }}</span
      >
      <button class="button quiet !h-8 !px-3" @click="input?.click()">Open a file…</button>
      <button class="button quiet !h-8 !px-3" @click="asking = true">From a host…</button>
      <RouterLink class="button quiet !h-8 !px-3" to="/peek">As they come…</RouterLink>
      <input
        ref="input"
        type="file"
        class="sr-only"
        tabindex="-1"
        aria-label="A file of lines"
        @change="opened"
      />
    </div>
    <textarea
      v-model="lines"
      spellcheck="false"
      wrap="off"
      aria-label="Lines to try"
      class="machine h-64 w-full flex-1 resize-y rounded-md border bg-sheet p-3 leading-[1.5] xl:h-[21rem]"
      :class="over ? 'border-accent' : 'border-line'"
      placeholder="Paste lines here, or drop a file."
    />
    <div class="mt-2 flex flex-wrap items-center gap-3 text-table">
      <label for="zone" class="font-medium">Zone of times that have none</label>
      <input
        id="zone"
        v-model="zone"
        class="field machine !h-8 w-64"
        list="zones"
        placeholder="such as Europe/Lisbon"
      /><datalist id="zones"><option v-for="z in zones" :key="z" :value="z" /></datalist>
    </div>
    <WorkFromHost v-model="asking" />
  </section>
</template>
