<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { client, take } from '../api/client'
import Answer from './Answer.vue'
import NumberChart from './NumberChart.vue'

/** What came from a sender over time. */
const props = defineProps<{ source: string; name: string }>()
const spans = ['1h', '24h', '7d', '30d']
const span = ref<{ since?: string; from?: string; to?: string }>({ since: '1h' })
const { data, isPending, error } = useQuery({
  queryKey: ['numbers', 'sender', computed(() => ({ ...props })), span],
  queryFn: () =>
    take(
      client.GET('/numbers', {
        params: {
          query: {
            by: 'sender',
            source: props.source,
            number: ['read', 'unparsed'],
            ...span.value,
          },
        },
      }),
    ),
  refetchInterval: 30_000,
  placeholderData: (old) => old,
})
const lines = computed(() => (data.value?.lines ?? []).filter((l) => l.group === props.name))
const choose = (from: number, to: number) => {
  span.value = { from: new Date(from).toISOString(), to: new Date(to).toISOString() }
}
</script>

<template>
  <nav class="mt-4 mb-2 flex gap-4" aria-label="Span">
    <button
      v-for="s in spans"
      :key="s"
      type="button"
      :class="span.since === s ? 'font-medium' : 'link'"
      :aria-pressed="span.since === s"
      @click="span = { since: s }"
    >
      {{ s }}
    </button>
  </nav>
  <Answer :pending="isPending" :error="error" what="The numbers">
    <p v-if="data && !lines.length" class="text-soft">Nothing of it was counted in this time.</p>
    <NumberChart
      v-else-if="data"
      :numbers="data"
      :lines="lines"
      :label="`Records of ${name}`"
      unit="count"
      @span="choose"
    />
  </Answer>
</template>
