<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { client, take } from '../api/client'
import Answer from './Answer.vue'
import NumberChart from './NumberChart.vue'

/** What came from a sender over time. */
const props = defineProps<{ source: string; name: string }>()
const span = ref<{ from?: string; to?: string }>({})
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
            since: span.value.from ? undefined : '24h',
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
  <Answer :pending="isPending" :error="error" what="The numbers">
    <p v-if="data && !lines.length" class="mt-3 text-soft">
      Nothing of it was counted in the last 24 hours.
    </p>
    <div v-else-if="data" class="mt-4">
      <NumberChart
        :numbers="data"
        :lines="lines"
        :label="`Records of ${name}`"
        unit="count"
        @span="choose"
      />
      <button v-if="span.from" type="button" class="link text-table" @click="span = {}">
        the last 24 hours
      </button>
    </div>
  </Answer>
</template>
