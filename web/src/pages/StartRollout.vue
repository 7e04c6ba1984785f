<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { client, take, type Schemas } from '../api/client'
import { useCatalogue, useStatus } from '../api/queries'
import Labeled from '../components/Labeled.vue'
import PageHead from '../components/PageHead.vue'
import RolloutPreview from '../components/RolloutPreview.vue'

/** Starts a rollout: how it should go on the left, what it would do on the right. */
const router = useRouter()
const { data: status } = useStatus()
const { data: definitions } = useCatalogue()
const form = reactive({ revision: '', plan: '', hosts: '', first: '', only: '' })
const plans = computed(() =>
  (definitions.value?.items ?? []).filter((d) => d.kind === 'plan').map((d) => d.name),
)
const body = computed(() => ({
  revision: Number(form.revision) || undefined,
  plan: form.plan || undefined,
  hosts: form.hosts.trim() || undefined,
  first: form.first.trim() || undefined,
  only: form.only.trim() || undefined,
}))
const preview = ref<Schemas['RolloutPreview']>()
const wrong = ref('')
const failure = ref('')
const starting = ref(false)
let asked = 0
watch(
  body,
  async (b) => {
    const turn = ++asked
    try {
      const p = await take(client.POST('/rollout-preview', { body: b }))
      if (turn === asked) {
        preview.value = p
        wrong.value = ''
      }
    } catch (e) {
      if (turn === asked) wrong.value = e instanceof Error ? e.message : String(e)
    }
  },
  { immediate: true },
)

async function start() {
  failure.value = ''
  starting.value = true
  try {
    const r = await take(client.POST('/rollouts', { body: body.value }))
    await router.push(`/rollouts/${r.id}`)
  } catch (e) {
    failure.value = e instanceof Error ? e.message : String(e)
  } finally {
    starting.value = false
  }
}
</script>

<template>
  <PageHead title="Roll out" back="Rollouts" back-to="/rollouts">
    <template #actions
      ><button
        class="button"
        :disabled="starting || !!wrong || !preview || !!preview.problem"
        @click="start"
      >
        Roll out revision {{ preview?.revision ?? '' }}
      </button></template
    >
  </PageHead>
  <p v-if="failure" role="alert" class="mb-4 text-failing">{{ failure }}</p>
  <div class="grid gap-10 lg:grid-cols-[20rem_1fr]">
    <form class="grid content-start gap-4" @submit.prevent="start">
      <Labeled label="Revision" :hint="`the newest is ${status?.published ?? '–'}`">
        <input v-model="form.revision" class="field w-full" inputmode="numeric" />
      </Labeled>
      <Labeled label="Plan" hint="which waves, how long each is watched, what stops it">
        <select v-model="form.plan" class="field w-full">
          <option value="">the one for what changes</option>
          <option v-for="p in plans" :key="p" :value="p">{{ p }}</option>
          <option value="usual">usual</option>
          <option value="one-wave">one-wave</option>
        </select>
      </Labeled>
      <Labeled label="First host" hint="the one that takes it before all others">
        <input v-model="form.first" class="field machine w-full" />
      </Labeled>
      <Labeled
        label="Cause"
        hint="only hosts that change for this alone: revision, labels, secret NAME"
      >
        <input v-model="form.only" class="field machine w-full" />
      </Labeled>
      <Labeled
        label="Hosts"
        hint="only these; they keep it when others go on, until they are let go"
      >
        <input v-model="form.hosts" class="field machine w-full" placeholder="site=northpier" />
      </Labeled>
    </form>
    <div class="min-w-0">
      <p v-if="wrong" role="alert" class="mb-4 text-failing">{{ wrong }}</p>
      <RolloutPreview v-if="preview" :preview="preview" />
    </div>
  </div>
</template>
