<script setup lang="ts">
import { useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { client, take, type Schemas } from '../api/client'
import { consequence } from '../composables/rollout'
import ConfirmDialog from './ConfirmDialog.vue'

/** What a person may decide of a rollout now, each said with its consequence before it is done. */
const props = defineProps<{ rollout: Schemas['Rollout'] }>()
const router = useRouter()
const queries = useQueryClient()
const chosen = ref<{ action: string; verb: string }>()
type Action = Schemas['RolloutAction']['action']

const can = computed(() => {
  const r = props.rollout
  const out: { action: string; verb: string; loud?: boolean }[] = []
  const running = r.state === 'running'
  if (running && r.phase === 'asking')
    out.push({ action: 'approve', verb: 'Let it go on', loud: true })
  if (running && (r.phase === 'soaking' || r.phase === 'proving'))
    out.push({ action: 'skip-soak', verb: 'Skip the soak' })
  if (!r.takenBackBy && r.hosts.some((h) => h.state === 'refused' || h.state === 'timed out'))
    out.push({ action: 'retry', verb: 'Try again' })
  if (running) out.push({ action: 'pause', verb: 'Pause' })
  if (!r.takenBackBy && (r.state === 'paused' || r.state === 'stopped'))
    out.push({ action: 'resume', verb: 'Go on' })
  if (running || r.state === 'paused') out.push({ action: 'stop', verb: 'Stop' })
  if (r.back) out.push({ action: 'back', verb: 'Take it back', loud: r.state === 'stopped' })
  return out
})

async function act() {
  const id = { path: { rollout: props.rollout.id } }
  if (chosen.value!.action === 'back') {
    const back = await take(
      client.POST('/rollouts/{rollout}/back', { params: id, body: { reason: 'from the console' } }),
    )
    await router.push(`/rollouts/${back.id}`)
  } else {
    await take(
      client.POST('/rollouts/{rollout}', {
        params: id,
        body: { action: chosen.value!.action as Action },
      }),
    )
  }
  await queries.invalidateQueries({ queryKey: ['rollout'] })
}
</script>

<template>
  <button
    v-for="c in can"
    :key="c.action"
    type="button"
    class="button"
    :class="{ quiet: !c.loud }"
    @click="chosen = c"
  >
    {{ c.verb }}
  </button>
  <ConfirmDialog
    v-if="chosen"
    :title="`${chosen.verb}?`"
    :words="consequence(chosen.action, rollout)"
    :verb="chosen.verb"
    :act="act"
    @close="chosen = undefined"
  />
</template>
