<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { plural, sentence } from '../composables/format'
import { inShort } from '../composables/rollout'
import RolloutBar from './RolloutBar.vue'

/** The waves of a rollout from the first to the last: who is where, and what let each of them pass. */
const props = defineProps<{ rollout: Schemas['Rollout'] }>()
const emit = defineEmits<{ choose: [wave: number] }>()

const waves = computed(() => {
  const r = props.rollout
  return r.waveList
    .filter((w) => w.hosts > 0 || r.waves === 1)
    .map((w) => {
      const passed = [...r.decisions]
        .reverse()
        .find(
          (d) =>
            ['passed', 'approved', 'soak skipped', 'gate'].includes(d.what) &&
            d.why.startsWith(`wave ${w.wave}`),
        )
      const over = w.wave < r.wave || r.state === 'done'
      const here = w.wave === r.wave && r.state !== 'done'
      const words = passed
        ? `${passed.what === 'gate' ? 'Stopped' : sentence(passed.what)}${passed.who ? ` by ${passed.who}` : ''}: ${passed.why.replace(/^wave \d+:? ?/, '')}`
        : over
          ? 'Confirmed'
          : here
            ? inShort(r)
            : r.state === 'stopped'
              ? 'Was not reached'
              : r.plan.approve?.includes(w.wave)
                ? 'Waits for the waves before it, and then for a person'
                : 'Waits for the waves before it'
      return {
        ...w,
        words,
        mark: over ? '●' : here ? (r.state === 'stopped' ? '✖' : '◐') : '○',
        look: over
          ? 'text-healthy'
          : here
            ? r.state === 'stopped'
              ? 'text-failing'
              : 'text-waiting'
            : 'text-soft',
      }
    })
})
</script>

<template>
  <ol class="border-t border-line">
    <li
      v-for="w in waves"
      :key="w.wave"
      class="grid items-start gap-x-6 gap-y-2 border-b border-line py-3 md:grid-cols-[13rem_1fr]"
    >
      <div>
        <p class="font-medium">
          <span :class="w.look" aria-hidden="true" class="inline-block w-6">{{ w.mark }}</span>Wave
          {{ w.wave }}
        </p>
        <p class="ml-6 text-table break-words text-soft">
          {{ w.says }} ·
          <button type="button" class="link" @click="emit('choose', w.wave)">
            {{ plural(w.hosts, 'host') }}
          </button>
        </p>
      </div>
      <div class="min-w-0">
        <RolloutBar :counts="w.counts" />
        <p class="mt-1 text-table break-words">{{ w.words }}</p>
      </div>
    </li>
  </ol>
</template>
