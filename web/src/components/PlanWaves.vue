<script setup lang="ts">
import { ref, watch } from 'vue'
import { client, take, type Schemas } from '../api/client'
import RolloutPreview from './RolloutPreview.vue'

/** Which host would be in which wave, were the draft published and rolled out by this plan now. */
const props = defineProps<{ draft: number; plan: string; kept?: string | number | Date }>()
const preview = ref<Schemas['RolloutPreview']>()
const wrong = ref('')
let asked = 0
watch(
  [() => props.draft, () => props.plan, () => props.kept],
  async () => {
    const turn = ++asked
    try {
      const body = { draft: props.draft, plan: props.plan }
      const p = await take(client.POST('/rollout-preview', { body }))
      if (turn !== asked) return
      preview.value = p
      wrong.value = ''
    } catch (e) {
      if (turn === asked) wrong.value = e instanceof Error ? e.message : String(e)
    }
  },
  { immediate: true },
)
</script>

<template>
  <p class="mb-4 text-soft">Were the draft published and rolled out by this plan now:</p>
  <p v-if="wrong" role="alert" class="mb-4 text-failing">{{ wrong }}</p>
  <RolloutPreview v-if="preview" :preview="preview" />
</template>
