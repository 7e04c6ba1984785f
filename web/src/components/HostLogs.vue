<script setup lang="ts">
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { client, take, type Schemas } from '../api/client'
import { useDoing } from '../composables/doing'
import { ago, bytes } from '../composables/format'

/** Logs that are being written on a host and that nobody collects. It is asked for, since looking is in the audit. */
const props = defineProps<{ host: string }>()
const router = useRouter()
const logs = ref<Schemas['UncollectedList']>()
const zone = ref('')
const { busy, error, doing } = useDoing()
const zones = Intl.supportedValuesOf('timeZone')
const at = { params: { path: { host: props.host } } }
const look = () =>
  doing(async () => {
    logs.value = await take(client.GET('/hosts/{host}/uncollected', at))
  })
const draft = (path: string) =>
  doing(async () => {
    const d = await take(
      client.POST('/hosts/{host}/source-drafts', {
        ...at,
        body: { path, zone: zone.value || undefined },
      }),
    )
    await router.push(`/changes/${d.draft}/edit/source/${d.source}`)
  })
</script>

<template>
  <div class="mb-4 flex flex-wrap items-center gap-4">
    <button class="button quiet" :disabled="busy" @click="look">
      {{ busy ? 'Looking…' : logs ? 'Look again' : 'Look for logs that nobody collects' }}
    </button>
    <p v-if="!logs" class="min-w-0 flex-1 text-soft">
      The host looks below /var/log, the folders that its settings name, those of its sources, and
      at what its programs write. No line leaves it; that somebody looked is in the audit.
    </p>
    <label v-else class="flex items-center gap-2 text-table"
      ><span class="font-medium">Zone of times that have none</span
      ><input
        v-model="zone"
        class="field machine !h-8 w-56"
        list="host-zones"
        placeholder="such as Europe/Lisbon"
    /></label>
    <datalist id="host-zones"><option v-for="z in zones" :key="z" :value="z" /></datalist>
  </div>
  <p v-if="error" role="alert" class="mb-4 text-failing">{{ error }}</p>
  <p v-if="logs && !logs.items.length" class="text-healthy">
    <span aria-hidden="true">●</span> Every log that is being written in
    <span class="machine">{{ logs.folders.join(', ') }}</span> is collected.
  </p>
  <div v-else-if="logs" class="overflow-x-auto">
    <table class="grid-table">
      <thead>
        <tr>
          <th>Path</th>
          <th class="!text-right">Size</th>
          <th class="!text-right">Rate</th>
          <th>Written</th>
          <th>Looks like</th>
          <th>Program</th>
          <th />
        </tr>
      </thead>
      <tbody>
        <tr v-for="l in logs.items" :key="l.path">
          <td class="machine max-w-[30rem] break-all">{{ l.path }}</td>
          <td class="num">{{ bytes(l.size) }}</td>
          <td class="num">{{ bytes(Math.round(l.rate)) }}/s</td>
          <td class="whitespace-nowrap">{{ ago(l.modified) }}</td>
          <td class="whitespace-nowrap">
            <span class="machine">{{ Math.round(l.share * 100) }}%</span> {{ l.kind
            }}{{ l.encoding ? `, ${l.encoding}` : ''
            }}<span v-if="l.noZone" class="text-degraded"> ▲ no zone</span>
          </td>
          <td class="machine">{{ l.program ?? '' }}</td>
          <td class="whitespace-nowrap">
            <button
              class="link text-accent underline underline-offset-2"
              :disabled="busy"
              @click="draft(l.path)"
            >
              Draft a source</button
            ><router-link
              class="link ml-4"
              :to="{ path: '/workbench', query: { host, path: l.path } }"
              >To the workbench</router-link
            >
          </td>
        </tr>
      </tbody>
    </table>
    <p class="mt-2 text-table text-soft">
      Looked in <span class="machine">{{ logs.folders.join(', ') }}</span>{{
        logs.more ? '; there are others that are not listed' : ''
      }}
    </p>
  </div>
</template>
