<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Schemas } from '../api/client'
import { plural, sentence } from '../composables/format'

/** What a rollout would do: which hosts are in which wave, and why they change. */
const props = defineProps<{ preview: Schemas['RolloutPreview'] }>()
const open = ref(0)
const notes = computed(() => [
  ...Object.entries(props.preview.causes).map(
    ([cause, n]) => `${plural(n, 'host')} ${n === 1 ? 'changes' : 'change'} for ${cause}.`,
  ),
  ...Object.entries(props.preview.left).map(
    ([why, n]) =>
      `${plural(n, 'host')} ${n === 1 ? 'is left as it is' : 'are left as they are'}: ${why}.`,
  ),
])
const names = (list: string[], wave: number) =>
  open.value === wave || list.length <= 6
    ? list.join(', ')
    : `${list.slice(0, 6).join(', ')} and ${list.length - 6} more`
</script>

<template>
  <p v-if="preview.problem" role="alert" class="mb-4 text-degraded">
    It cannot start now: {{ preview.problem }}
  </p>
  <p class="mb-1 font-medium">
    {{ plural(preview.changes, 'host') }} would change; {{ plural(preview.same, 'host') }} run it
    already.
  </p>
  <ul class="mb-4">
    <li v-for="n in notes" :key="n">{{ n }}</li>
  </ul>
  <p class="mb-4">
    Plan <strong class="font-medium">{{ preview.plan.name }}</strong>: {{ preview.why }}. Each wave
    is watched for {{ preview.plan.soak
    }}<template v-if="preview.plan.stopWhen"
      >; it stops when <code class="machine">{{ preview.plan.stopWhen }}</code> and then
      {{
        preview.plan.onStop === 'go-back' ? 'goes back by itself' : 'waits for a person'
      }}</template
    >.
  </p>
  <ol class="border-t border-line">
    <li
      v-for="w in preview.waves"
      :key="w.wave"
      class="grid gap-x-6 border-b border-line py-2 md:grid-cols-[11rem_1fr]"
    >
      <div>
        <p class="font-medium">Wave {{ w.wave }}</p>
        <p class="text-table break-words text-soft">{{ w.says }}</p>
      </div>
      <div class="min-w-0">
        <p>
          <button
            type="button"
            class="link"
            :aria-expanded="open === w.wave"
            @click="open = open === w.wave ? 0 : w.wave"
          >
            {{ plural(w.hosts.length, 'host') }}</button><span
            v-if="w.away.length"
            class="text-soft"
            >, {{ w.away.length }} away</span
          ><span v-if="w.approve" class="text-soft">; a person lets it begin</span>
        </p>
        <p class="machine break-words">{{ sentence(names(w.hosts, w.wave)) }}</p>
      </div>
    </li>
  </ol>
</template>
