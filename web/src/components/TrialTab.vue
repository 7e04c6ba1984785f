<script setup lang="ts">
import { useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { client, take } from '../api/client'
import { useTrials } from '../api/queries'
import { ago, bytes, plural, until } from '../composables/format'
import TrialSource from './TrialSource.vue'

/** The draft beside what hosts run, on the records that come: start it, and see what would be different. */
const props = defineProps<{ draft: number; hosts: number }>()
const { data } = useTrials(() => props.draft)
const queries = useQueryClient()
const chosen = ref('')
const minutes = ref(1)
const failure = ref('')
const trial = computed(() => data.value?.items[0])
const without = computed(() => trial.value?.hosts.filter((h) => h.reason) ?? [])

async function act(f: () => Promise<unknown>) {
  failure.value = ''
  try {
    await f()
    await queries.invalidateQueries({ queryKey: ['trials'] })
  } catch (e) {
    failure.value = e instanceof Error ? e.message : String(e)
  }
}
const start = () =>
  act(() =>
    take(
      client.POST('/trials', {
        body: {
          draft: props.draft,
          hosts: chosen.value || undefined,
          seconds: Math.round(60 * minutes.value),
        },
      }),
    ),
  )
const stop = () =>
  act(() =>
    take(client.DELETE('/trials/{trial}', { params: { path: { trial: trial.value!.id } } })),
  )
</script>

<template>
  <p class="mb-4 max-w-[46rem]">
    The hosts treat the records that come by this draft too, beside what they run, and send nothing.
    A trial takes a tenth of a core at most and ends by itself.
  </p>
  <form class="mb-6 flex flex-wrap items-end gap-4" @submit.prevent="start">
    <label class="grow"
      ><span class="mb-1 block font-medium">Hosts</span
      ><input
        v-model="chosen"
        class="field machine w-full"
        :placeholder="`some of the ${plural(hosts, 'host')} that it changes`"
    /></label>
    <label
      ><span class="mb-1 block font-medium">Minutes</span
      ><input
        v-model.number="minutes"
        class="field w-24"
        type="number"
        min="0.1"
        max="60"
        step="any"
    /></label>
    <button class="button" :disabled="!!trial && !trial.ended">Try it</button>
    <button v-if="trial && !trial.ended" type="button" class="button quiet" @click="stop">
      End it
    </button>
  </form>
  <p v-if="failure" role="alert" class="mb-4 text-failing">{{ failure }}</p>
  <template v-if="trial">
    <p class="mb-4" role="status">
      Trial {{ trial.id }} by {{ trial.by }} on
      <span class="machine">{{ trial.hosts.map((h) => h.host).join(', ') }}</span>:
      {{ trial.ended ? `ended, begun ${ago(trial.started)}` : `runs, ends ${until(trial.until)}` }}.
      <span v-if="trial.skipped"
        >{{ bytes(trial.skipped) }} were passed over, so the counts are of a sample.</span
      >
    </p>
    <p v-for="h in without" :key="h.host" class="mb-2 text-failing">{{ h.host }}: {{ h.reason }}</p>
    <p class="mb-4">
      <router-link class="link" :to="`/cost?draft=${draft}`"
        >What each destination would get in a day</router-link
      >
    </p>
    <TrialSource v-for="s in trial.sources" :key="s.name" :source="s" />
  </template>
  <p v-else class="text-soft">No host has tried this draft since the service started.</p>
</template>
