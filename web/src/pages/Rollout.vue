<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRollout } from '../api/queries'
import Answer from '../components/Answer.vue'
import Facts from '../components/Facts.vue'
import NumberCharts from '../components/NumberCharts.vue'
import PageHead from '../components/PageHead.vue'
import RolloutActions from '../components/RolloutActions.vue'
import RolloutGate from '../components/RolloutGate.vue'
import RolloutHosts from '../components/RolloutHosts.vue'
import RolloutWaves from '../components/RolloutWaves.vue'
import { moment, sentence } from '../composables/format'
import { atWork, reason, tone } from '../composables/rollout'

const props = defineProps<{ rollout: string }>()
const { data: r, isPending, error } = useRollout(() => Number(props.rollout))
const wave = ref(0)
const facts = computed(() =>
  r.value
    ? [
        {
          name: 'Revision',
          value: `${r.value.revision}${r.value.before ? `, before it ${r.value.before}` : ''}`,
        },
        { name: 'Plan', value: `${r.value.plan.name}, soak ${r.value.plan.soak}` },
        { name: 'Started', value: `${moment(r.value.started)} by ${r.value.author}` },
        { name: 'Ended', value: r.value.ended ? moment(r.value.ended) : 'not yet' },
        { name: 'For', value: r.value.chosen },
        { name: 'Takes back', value: r.value.takesBack && `rollout ${r.value.takesBack}` },
      ].map((f) => ({ ...f, value: f.value || undefined }))
    : [],
)
const why = computed(() => (r.value ? reason(r.value) : ''))
/** Half an hour before it began, so that before and after stand side by side. */
const before = computed(() =>
  r.value ? new Date(Date.parse(r.value.started) - 30 * 60_000).toISOString() : undefined,
)
</script>

<template>
  <PageHead :title="`Rollout ${rollout}`" back="Rollouts" back-to="/rollouts">
    <template #actions><RolloutActions v-if="r" :rollout="r" /></template>
  </PageHead>
  <Answer :pending="isPending" :error="error" :what="`Rollout ${rollout}`">
    <template v-if="r">
      <p class="mb-4 max-w-[60rem] font-medium" :class="tone(r.state)" role="status">
        {{ atWork(r) }}<span class="font-normal text-ink">. {{ sentence(why) }}.</span>
      </p>
      <RolloutWaves :rollout="r" @choose="wave = $event" />
      <RolloutGate :rollout="r" />
      <Facts :items="facts" class="mt-8" />
      <RolloutHosts v-model:wave="wave" :hosts="r.hosts" :waves="r.waves" />
      <h2 class="mt-8 mb-3 text-section font-semibold">Decisions</h2>
      <ul class="border-t border-line">
        <li
          v-for="(d, i) in r.decisions"
          :key="i"
          class="grid gap-x-4 border-b border-line py-1.5 text-table md:grid-cols-[15rem_7rem_1fr]"
        >
          <span class="text-soft">{{ moment(d.at) }}</span>
          <span class="font-medium">{{ d.what }}</span>
          <span class="break-words"
            >{{ sentence(d.why) }}<span v-if="d.who" class="text-soft"> ({{ d.who }})</span></span
          >
        </li>
      </ul>
      <h2 class="mt-8 mb-3 text-section font-semibold">Numbers meanwhile</h2>
      <NumberCharts :from="before" />
    </template>
  </Answer>
</template>
