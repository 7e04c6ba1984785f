<script setup lang="ts">
import { ref, watch } from 'vue'
import { client, take, type Schemas } from '../api/client'
import { useHosts } from '../api/queries'
import { useDoing } from '../composables/doing'
import { ago, bytes } from '../composables/format'
import { useWorkbench } from '../composables/workbench'
import Sheet from './Sheet.vue'

/** Pulls the last lines of a file from a host; what nobody collects there is offered. */
const shown = defineModel<boolean>({ required: true })
const { data: hosts } = useHosts({})
const { bench } = useWorkbench()
const host = ref('')
const path = ref('')
const logs = ref<Schemas['UncollectedList']>()
const { busy, error, doing } = useDoing()

watch(shown, (now) => now && (error.value = ''))
const look = () =>
  doing(async () => {
    logs.value = await take(
      client.GET('/hosts/{host}/uncollected', { params: { path: { host: host.value } } }),
    )
  })
watch(host, () => (logs.value = undefined))
const read = () =>
  doing(async () => {
    const l = await take(
      client.GET('/hosts/{host}/lines', {
        params: { path: { host: host.value }, query: { path: path.value } },
      }),
    )
    Object.assign(bench, {
      lines: l.lines.join('\n') + '\n',
      from: `${l.path} on ${host.value}`,
      modified: l.modified,
      encoding: l.encoding ?? '',
      host: host.value,
    })
    shown.value = false
  })
</script>

<template>
  <Sheet
    v-model="shown"
    title="Lines from a host"
    about="Up to 200 of the last lines, as they stand in the file, before anything is masked. It is in the audit who read them."
    :error="error"
    wide
  >
    <form id="from-host" class="mt-4 grid grid-cols-[1fr_1.6fr] gap-4" @submit.prevent="read">
      <div>
        <label for="from-name" class="block font-medium">Host</label>
        <input
          id="from-name"
          v-model="host"
          class="field machine mt-1 w-full"
          list="host-names"
          autocomplete="off"
          required
        />
        <datalist id="host-names">
          <option v-for="h in hosts?.items ?? []" :key="h.name" :value="h.name" />
        </datalist>
      </div>
      <div>
        <label for="from-path" class="block font-medium">Path of the log</label>
        <input
          id="from-path"
          v-model="path"
          class="field machine mt-1 w-full"
          placeholder="/srv/gate/lane-1.log"
          required
        />
      </div>
    </form>
    <div class="mt-4">
      <button type="button" class="button quiet !h-8" :disabled="!host || busy" @click="look">
        {{ busy ? 'Looking…' : 'What does nobody collect there?' }}
      </button>
      <p v-if="logs && !logs.items.length" class="mt-2 text-soft">
        Every log that is being written there is collected.
      </p>
      <ul
        v-else-if="logs"
        class="mt-3 max-h-64 overflow-y-auto border-t border-line"
        aria-label="Logs that nobody collects"
      >
        <li v-for="l in logs.items" :key="l.path" class="border-b border-line">
          <button
            type="button"
            class="flex w-full flex-wrap items-baseline gap-x-4 py-1.5 text-left text-table hover:bg-sunk"
            :aria-pressed="path === l.path"
            @click="path = l.path"
          >
            <span
              class="machine min-w-0 flex-1 break-all"
              :class="{ 'font-medium text-accent': path === l.path }"
              >{{ l.path }}</span
            >
            <span class="text-soft"
              >{{ bytes(l.size) }}, {{ bytes(Math.round(l.rate)) }}/s, {{ ago(l.modified) }}</span
            >
            <span
              >{{ Math.round(l.share * 100) }}% {{ l.kind
              }}{{ l.encoding ? `, ${l.encoding}` : '' }}</span
            >
          </button>
        </li>
      </ul>
    </div>
    <template #actions>
      <button type="button" class="button quiet" @click="shown = false">Cancel</button>
      <button type="submit" form="from-host" class="button" :disabled="busy || !host || !path">
        Read the lines
      </button>
    </template>
  </Sheet>
</template>
