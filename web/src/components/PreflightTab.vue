<script setup lang="ts">
import { useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { client, take, type Schemas } from '../api/client'
import { usePreflight } from '../api/queries'
import { ago, bytes, number, plural, sentence } from '../composables/format'

/** A rehearsal on the real hosts: run it, and what it found, troubles first. */
const props = defineProps<{ draft: number; hosts: number }>()
const { data } = usePreflight(() => props.draft)
const queries = useQueryClient()
const chosen = ref('')
const sendTest = ref(false)
const running = ref(false)
const failure = ref('')
const open = ref<string>()
const state = { trouble: 'text-failing', note: 'text-degraded', fine: 'text-healthy' }
const mark = { trouble: '✖', note: '▲', fine: '●' }
const level = (g: Schemas['PreflightGroup']) => g.level as keyof typeof mark
const groups = computed(() => data.value?.groups ?? [])
const what = (g: Schemas['PreflightGroup']) => [g.kind, g.name].filter(Boolean).join(' ')
const files = (g: Schemas['PreflightGroup']) =>
  g.files ? `${plural(g.files, 'file')}, ${bytes(g.bytes ?? 0)}, the newest ${ago(g.newest)}` : ''

async function run() {
  failure.value = ''
  running.value = true
  try {
    await take(
      client.POST('/preflights', {
        body: {
          draft: props.draft,
          hosts: chosen.value || undefined,
          sendTest: sendTest.value || undefined,
        },
      }),
    )
    await queries.invalidateQueries({ queryKey: ['preflight'] })
  } catch (e) {
    failure.value = e instanceof Error ? e.message : String(e)
  } finally {
    running.value = false
  }
}
</script>

<template>
  <p class="mb-4 max-w-[46rem]">
    The hosts look whether files are there and can be read, whether destinations are found, safe and
    let them in, whether there is room for buffers, and whether their clocks are right. Nothing is
    changed there.
  </p>
  <form class="mb-6 flex flex-wrap items-end gap-4" @submit.prevent="run">
    <label class="grow"
      ><span class="mb-1 block font-medium">Hosts</span
      ><input
        v-model="chosen"
        class="field machine w-full"
        :placeholder="`the ${plural(hosts, 'host')} that it changes`"
    /></label>
    <label class="flex h-9 items-center gap-2"
      ><input v-model="sendTest" type="checkbox" class="size-4" /> Send a test record</label
    >
    <button class="button" :disabled="running">{{ running ? 'Rehearsing…' : 'Rehearse' }}</button>
  </form>
  <p v-if="failure" role="alert" class="mb-4 text-failing">{{ failure }}</p>
  <template v-if="data">
    <p class="mb-4">
      <strong class="font-medium">{{ plural(data.hosts, 'host') }}</strong> rehearsed
      {{ ago(data.at) }}; {{ number(data.fine) }} found nothing to say.
    </p>
    <ul class="border-t border-line">
      <li
        v-for="g in groups"
        :key="`${g.kind} ${g.name} ${g.words}`"
        class="grid items-baseline gap-x-4 border-b border-line py-2 md:grid-cols-[1.5rem_8rem_16rem_1fr]"
      >
        <span :class="state[level(g)]" :aria-label="g.level">{{ mark[level(g)] }}</span>
        <button
          type="button"
          class="link text-left"
          :aria-expanded="open === what(g) + g.words"
          @click="open = open === what(g) + g.words ? undefined : what(g) + g.words"
        >
          {{ plural(g.hosts.length, 'host') }}
        </button>
        <span class="machine break-words">{{ what(g) }}</span>
        <div class="min-w-0 break-words">
          <p>{{ sentence(g.words) }}</p>
          <p v-if="g.todo" class="text-soft">{{ sentence(g.todo) }}</p>
          <p v-if="files(g)" class="text-soft">{{ files(g) }}</p>
          <p v-for="e in g.level === 'fine' ? [] : g.examples" :key="e" class="machine text-soft">
            {{ e }}
          </p>
          <p v-if="open === what(g) + g.words" class="machine mt-1">{{ g.hosts.join(', ') }}</p>
        </div>
      </li>
    </ul>
    <p v-for="s in data.silent" :key="s.host" class="mt-2 text-soft">{{ sentence(s.reason) }}</p>
  </template>
  <p v-else class="text-soft">No host has rehearsed this draft yet.</p>
</template>
