<script setup lang="ts">
import { computed, onBeforeUnmount, ref, watch } from 'vue'
import { client, type Schemas } from '../api/client'
import { plural } from '../composables/format'
import { events } from '../composables/stream'
import ProbeHops from './ProbeHops.vue'
import Sheet from './Sheet.vue'

/** Sends a marked record along the path of a source, on one host or on all, and shows where it gets. */
const props = defineProps<{ source: string; host?: string }>()
const shown = defineModel<boolean>({ required: true })
const line = ref('')
const error = ref('')
const running = ref(false)
const begin = ref<Schemas['ProbeEvent']>()
const end = ref<Schemas['ProbeEvent']>()
const hosts = ref(new Map<string, Schemas['ProbeEvent']>())
let reader: AbortController | undefined
const rank = (e: Schemas['ProbeEvent']) =>
  ({ stuck: 0, dropped: 1, 'under-way': 2, arrived: 3 })[e.state ?? 'under-way']
const list = computed(() =>
  [...hosts.value.values()].sort(
    (a, b) => rank(a) - rank(b) || (a.host ?? '').localeCompare(b.host ?? ''),
  ),
)

function take(e: Schemas['ProbeEvent']) {
  if (e.kind === 'begin') begin.value = e
  else if (e.kind === 'end') end.value = e
  else hosts.value.set(e.host ?? '', e)
}
function clear() {
  reader?.abort()
  begin.value = end.value = undefined
  hosts.value = new Map()
  error.value = ''
}
async function send() {
  clear()
  const mine = (reader = new AbortController())
  running.value = true
  const body = {
    source: props.source,
    host: props.host,
    hosts: props.host ? undefined : 'all',
    line: line.value || undefined,
  }
  try {
    await events(client.POST('/probe', { body, parseAs: 'stream', signal: mine.signal }), take)
  } catch (e) {
    if (!mine.signal.aborted) error.value = e instanceof Error ? e.message : String(e)
  } finally {
    if (reader === mine) running.value = false
  }
}
watch(shown, (now) => now || clear())
onBeforeUnmount(clear)
</script>

<template>
  <Sheet
    v-model="shown"
    :title="`Probe ${source}`"
    :about="`One marked record goes the real way ${host ? `on ${host}` : 'on every host that runs the source'}, to the destinations too: they know it by the label synaxis-probe.`"
    :error="error"
    wide
  >
    <form id="probe" class="mt-4" @submit.prevent="send">
      <label for="probe-line" class="block font-medium">Line</label>
      <input
        id="probe-line"
        v-model="line"
        class="field machine mt-1 w-full"
        placeholder="made by the agent, or a copy of the newest"
        autocomplete="off"
      />
    </form>
    <p v-if="begin" class="mt-4 text-table text-soft" aria-live="polite">
      {{ begin.id }} on {{ plural(begin.hosts?.length ?? 0, 'host')
      }}<template v-if="begin.away">; {{ plural(begin.away, 'host') }} away</template
      ><template v-if="end"
        >: arrived on {{ end.arrived }}{{ end.stuck ? `, not on ${end.stuck}` : '' }}</template
      >
    </p>
    <ol
      v-if="list.length"
      class="mt-2 max-h-[45vh] overflow-y-auto border-t border-line text-table"
    >
      <ProbeHops v-for="e in list" :key="e.host" :event="e" :open="!!host" />
    </ol>
    <template #actions>
      <button type="button" class="button quiet" @click="shown = false">Close</button>
      <button type="submit" form="probe" class="button" :disabled="running">
        {{ running ? 'Under way…' : begin ? 'Send another' : 'Send it' }}
      </button>
    </template>
  </Sheet>
</template>
