<script setup lang="ts">
import { ref } from 'vue'
import type { Schemas } from '../api/client'
import { ago, bytes, number, plural, sentence } from '../composables/format'
import ProbeSheet from './ProbeSheet.vue'
import StateMark from './StateMark.vue'

/** The sources of a host with their state and numbers. */
const props = defineProps<{ host: Schemas['Host'] }>()

const probing = ref(false)
const probed = ref('')
const probe = (source: string) => {
  probed.value = source
  probing.value = true
}

/** What of a destination waits on the host, in words. */
function buffered(destination: string) {
  let records = 0
  let disk = 0
  let oldest = ''
  for (const s of props.host.sources)
    for (const d of s.numbers.destinations) {
      if (d.destination !== destination) continue
      records += d.onDisk
      disk += d.diskBytes
      if (d.oldest && (!oldest || d.oldest < oldest)) oldest = d.oldest
    }
  if (!records) return ''
  return `${plural(records, 'record')} wait on disk in ${bytes(disk)}; the oldest was read ${ago(oldest)}.`
}

const masks = (n: Schemas['Numbers']) =>
  Object.entries(n.masks ?? {})
    .map(([mask, count]) => `${mask}: ${number(count)}`)
    .join('\n')
const reasons = (n: Schemas['Numbers']) =>
  [
    ...Object.entries(n.dropReasons).map(([why, count]) => `${why}: ${number(count)}`),
    ...(n.failed
      ? [`${number(n.failed)} conditions and values could not be computed; their records went on`]
      : []),
  ].join('\n')
</script>

<template>
  <ProbeSheet v-model="probing" :source="probed" :host="host.name" />
  <p v-if="!host.sources.length" class="text-soft">
    No source is assigned to this host. A source's <span class="machine">hosts</span> must choose it
    by its labels.
  </p>
  <div v-else class="overflow-x-auto">
    <table class="grid-table">
      <thead>
        <tr>
          <th>State</th>
          <th>Source</th>
          <th class="!text-right">Read</th>
          <th class="!text-right">Acknowledged</th>
          <th class="!text-right">On the way</th>
          <th class="!text-right">Dropped</th>
          <th class="!text-right">Masked</th>
          <th class="!text-right">Not parsed</th>
          <th class="!text-right">Refused</th>
          <th class="!text-right">Input</th>
          <th>Last record</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="s in host.sources" :key="s.name">
          <td><StateMark :state="s.verdict.state" /></td>
          <td>
            <router-link :to="`/catalogue/source/${s.name}`" class="link machine">{{
              s.name
            }}</router-link>
            <router-link
              :to="{ path: '/peek', query: { source: s.name, host: host.name } }"
              class="link ml-3 text-soft"
              >look</router-link
            >
            <button class="link ml-3 text-soft" @click="probe(s.name)">probe</button>
            <template v-if="s.verdict.reason && s.verdict.state !== 'healthy'"
              ><p class="max-w-[36rem] break-words">{{ sentence(s.verdict.reason) }}</p>
              <p v-if="s.verdict.todo" class="text-soft">
                {{ sentence(s.verdict.todo) }}
              </p></template
            >
            <p
              v-if="s.numbers.oldest && Date.now() - Date.parse(s.numbers.oldest) > 10_000"
              class="text-soft"
            >
              The oldest record that waits was written {{ ago(s.numbers.oldest) }};
              {{ bytes(s.numbers.unread) }} wait to be read.
            </p>
            <p v-for="n in s.notes" :key="n" class="max-w-[36rem] text-soft">{{ sentence(n) }}</p>
          </td>
          <td class="num">{{ number(s.numbers.read) }}</td>
          <td class="num">
            <span
              :title="
                s.numbers.destinations
                  .map((d) => `${d.destination}: ${number(d.acknowledged)}`)
                  .join('\n')
              "
              >{{ number(s.numbers.acknowledged) }}</span
            >
          </td>
          <td class="num">{{ number(s.numbers.pending) }}</td>
          <td class="num">
            <span :title="reasons(s.numbers)">{{ number(s.numbers.dropped) }}</span>
          </td>
          <td class="num">
            <span :title="masks(s.numbers)">{{ number(s.numbers.masked) }}</span>
          </td>
          <td class="num">{{ number(s.numbers.unparsed) }}</td>
          <td class="num">{{ number(s.numbers.refused) }}</td>
          <td class="num">{{ bytes(s.numbers.bytes) }}</td>
          <td class="whitespace-nowrap">{{ ago(s.numbers.lastRecord) }}</td>
        </tr>
      </tbody>
    </table>
  </div>
  <template v-if="host.destinations.length">
    <h2 class="mt-8 mb-3 text-section font-semibold">Destinations</h2>
    <ul class="border-t border-line">
      <li
        v-for="d in host.destinations"
        :key="d.name"
        class="grid items-baseline gap-4 border-b border-line py-2 md:grid-cols-[7rem_12rem_1fr]"
      >
        <StateMark :state="d.code ? 'failing' : 'healthy'" />
        <router-link :to="`/catalogue/destination/${d.name}`" class="link machine">{{
          d.name
        }}</router-link>
        <div class="min-w-0 break-words">
          <p>{{ d.reason ? sentence(d.reason) : 'takes what it is sent' }}</p>
          <p v-if="d.todo" class="text-soft">{{ sentence(d.todo) }}</p>
          <p v-if="buffered(d.name)" class="text-soft">{{ buffered(d.name) }}</p>
          <p v-if="d.refusal" class="text-soft">
            It refused records last with: <span class="machine">{{ d.refusal }}</span>
          </p>
        </div>
      </li>
    </ul>
  </template>
</template>
