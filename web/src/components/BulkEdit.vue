<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { client, take, type Schemas } from '../api/client'
import { useDoing } from '../composables/doing'
import { plural } from '../composables/format'
import Sheet from './Sheet.vue'

/** Labels or settings of many hosts: first what would change, then done. */
const shown = defineModel<boolean>({ required: true })
const props = defineProps<{ hosts: string; names?: string[]; what: 'labels' | 'settings' }>()
const emit = defineEmits<{ done: [] }>()
const text = ref('')
const preview = ref<Schemas['HostsEdited']>()
const { busy, error, doing } = useDoing()
watch(shown, () => {
  text.value = error.value = ''
  preview.value = undefined
})
watch(text, () => {
  preview.value = undefined
})

function edit(): Schemas['MapEdit'] {
  const set: Record<string, string> = {}
  const remove: string[] = []
  for (const w of text.value.split(/\s+/).filter(Boolean)) {
    const at = w.indexOf('=')
    if (at > 0) set[w.slice(0, at)] = w.slice(at + 1)
    else if (w.endsWith('-') && w.length > 1) remove.push(w.slice(0, -1))
    else throw new Error(`${w}: write KEY=VALUE, or KEY- to take it away`)
  }
  return { set, remove }
}
const send = (dryRun: boolean) =>
  doing(async () => {
    const result = await take(
      client.POST('/host-edits', {
        body: { hosts: props.hosts || 'all', names: props.names, [props.what]: edit(), dryRun },
      }),
    )
    if (dryRun) preview.value = result
    else {
      shown.value = false
      emit('done')
    }
  })

const few = (hosts: string[]) =>
  hosts.length > 4
    ? `${hosts.slice(0, 4).join(', ')} and ${hosts.length - 4} more`
    : hosts.join(', ')
const effect = (e: Schemas['HostsEffect']) =>
  [
    e.loses.length &&
      (e.only && e.loses.length === 1
        ? `would lose their only source, ${e.loses[0]}`
        : `would lose ${e.only ? 'all their sources: ' : ''}${e.loses.join(', ')}`),
    e.gains.length && `would gain ${e.gains.join(', ')}`,
    e.changes.length && `would run another ${e.changes.join(', ')}`,
  ]
    .filter(Boolean)
    .join('; ') || 'would get another config with the same sources'

/** Hosts that change in the same way, together. */
const groups = computed(() => {
  const by = new Map<string, string[]>()
  for (const c of preview.value?.changes ?? []) {
    const told = [...c.labels, ...c.settings]
      .map((e) =>
        e.removed
          ? `${e.key} removed (was ${e.before})`
          : `${e.key}=${e.after}${e.before ? ` (was ${e.before})` : ''}`,
      )
      .join('  ')
    by.set(told, [...(by.get(told) ?? []), c.host])
  }
  return [...by].sort((a, b) => b[1].length - a[1].length)
})
</script>

<template>
  <Sheet
    v-model="shown"
    :title="what === 'labels' ? 'Change labels' : 'Change settings'"
    :about="
      names?.length === 1
        ? `Of ${names[0]}.`
        : names
          ? `Of ${plural(names.length, 'host')} that you chose.`
          : `Of all hosts that fit: ${hosts || 'all'}`
    "
    :error="error"
    wide
  >
    <form id="bulk" class="mt-4" @submit.prevent="send(true)">
      <label for="bulk-text" class="block font-medium">{{
        what === 'labels' ? 'Labels' : 'Settings'
      }}</label>
      <input
        id="bulk-text"
        v-model="text"
        class="field machine mt-1 w-full"
        :placeholder="what === 'labels' ? 'tier=2 owner-' : 'log_root=/srv/harbour'"
        aria-describedby="bulk-help"
      />
      <p id="bulk-help" class="mt-1 text-table text-soft">
        KEY=VALUE sets, KEY- takes away; several with spaces between.
      </p>
    </form>
    <div v-if="preview" class="mt-4" role="status">
      <p class="font-medium">
        {{ plural(preview.changed, 'host') }} of {{ preview.chosen }} would change
      </p>
      <ul class="mt-2 max-h-72 overflow-y-auto border-t border-line">
        <li
          v-for="[told, hosts_] in groups"
          :key="told"
          class="border-b border-line py-1.5 text-table"
        >
          <span class="machine">{{ told }}</span><span class="block text-soft"
            >{{ plural(hosts_.length, 'host') }}:
            <span class="machine">{{ hosts_.slice(0, 6).join(', ') }}</span><template
              v-if="hosts_.length > 6"
            >
              and {{ hosts_.length - 6 }} more</template
            ></span
          >
        </li>
      </ul>
      <ul v-if="preview.effects?.length" class="mt-3">
        <li v-for="e in preview.effects" :key="e.hosts[0]" class="flex gap-2 py-0.5">
          <span
            :class="e.loses.length ? 'text-degraded' : 'text-soft'"
            aria-hidden="true"
            class="w-4 shrink-0"
            >{{ e.loses.length ? '▲' : '●' }}</span><span
            ><span class="machine">{{ few(e.hosts) }}</span> {{ effect(e) }}</span
          >
        </li>
      </ul>
      <p v-if="preview.changed" class="mt-2 text-soft">
        {{
          preview.effects?.length
            ? 'Their new configs are pending then, and go out with the next rollout.'
            : 'No host would run anything else by the revision in force.'
        }}
      </p>
    </div>
    <template #actions>
      <button class="button quiet" @click="shown = false">Not now</button>
      <button v-if="!preview" form="bulk" class="button" :disabled="busy || !text.trim()">
        See what changes
      </button>
      <button v-else class="button" :disabled="busy || !preview.changed" @click="send(false)">
        Change {{ plural(preview.changed, 'host') }}
      </button>
    </template>
  </Sheet>
</template>
