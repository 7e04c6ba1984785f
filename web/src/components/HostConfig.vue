<script setup lang="ts">
import { useHostConfig } from '../api/queries'
import Answer from './Answer.vue'
import DiffView from './DiffView.vue'
import YamlText from './YamlText.vue'

/** What a host is assigned against what it runs. */
const props = defineProps<{ host: string }>()
const { data: c, isPending, error } = useHostConfig(() => props.host)
</script>

<template>
  <Answer :pending="isPending" :error="error" what="The config">
    <template v-if="c">
      <section v-if="c.pending" class="mb-8">
        <h2 class="mb-2 text-section font-semibold">Pending: {{ c.pending }}</h2>
        <p class="mb-3 text-soft">The next rollout would change this host like this.</p>
        <DiffView :lines="c.pendingDiff" />
      </section>
      <section v-if="c.assignedHash && !c.same" class="mb-8">
        <h2 class="mb-2 text-section font-semibold">The host does not run what it is assigned</h2>
        <p class="mb-3 text-soft">
          Removed lines are what it runs, added lines what it is assigned.
        </p>
        <DiffView :lines="c.diff" />
      </section>
      <section v-if="c.assignedHash">
        <h2 class="mb-2 text-section font-semibold">
          {{ c.same ? 'Assigned and effective: the same' : 'Assigned' }}
        </h2>
        <YamlText :text="c.assigned" />
      </section>
      <p v-else class="text-soft">No config is assigned: no revision is in force yet.</p>
    </template>
  </Answer>
</template>
