<script setup lang="ts">
import { computed, ref } from 'vue'
import { client, queryClient, take } from '../api/client'
import { useDraftDefinitions, useImpact } from '../api/queries'
import { useDoing } from '../composables/doing'
import AddDefinition from './AddDefinition.vue'
import Answer from './Answer.vue'
import MergeDiff from './MergeDiff.vue'

/** What a draft does to each definition, side by side with what is published. */
const props = defineProps<{ draft: number }>()
const { data: all, isPending, error: failed } = useDraftDefinitions(() => props.draft)
const impact = useImpact(() => props.draft, true)
const { error, doing } = useDoing()
const adding = ref(false)
const changed = computed(() => (all.value?.items ?? []).filter((x) => x.state !== 'same'))
const rest = computed(() => (all.value?.items ?? []).filter((x) => x.state === 'same'))
const pick = ref('')
const texts = (kind: string, name: string) =>
  impact.data.value?.definitions.find((c) => c.kind === kind && c.name === name)
const at = (kind: string, name: string) => ({
  params: { path: { draft: props.draft, kind, name } },
})
const fresh = () => queryClient.invalidateQueries({ queryKey: ['draft', props.draft] })
const revert = (kind: string, name: string) =>
  doing(async () => {
    await take(client.POST('/drafts/{draft}/definitions/{kind}/{name}/revert', at(kind, name)))
    await fresh()
  })
const remove = (id: string) =>
  doing(async () => {
    const [kind, name] = id.split(' ') as [string, string]
    await take(client.DELETE('/drafts/{draft}/definitions/{kind}/{name}', at(kind, name)))
    pick.value = ''
    await fresh()
  })
</script>

<template>
  <Answer :pending="isPending" :error="failed" what="The definitions">
    <div class="mb-4 flex flex-wrap items-center gap-3">
      <button class="button quiet" @click="adding = true">Add a definition…</button>
      <label class="sr-only" for="pick">A definition that is there</label>
      <select id="pick" v-model="pick" class="field">
        <option value="">One that is there…</option>
        <option v-for="x in rest" :key="x.kind + x.name" :value="`${x.kind} ${x.name}`">
          {{ x.kind }} {{ x.name }}
        </option>
      </select>
      <template v-if="pick"
        ><router-link class="button quiet" :to="`/changes/${draft}/edit/${pick.replace(' ', '/')}`"
          >Edit</router-link
        ><button class="button quiet" @click="remove(pick)">Remove</button></template
      >
    </div>
    <p v-if="error" role="alert" class="mb-3 text-failing">{{ error }}</p>
    <p v-if="!changed.length" class="text-soft">
      This draft changes nothing yet. Add a definition, or edit one that is there.
    </p>
    <details
      v-for="x in changed"
      :key="x.kind + x.name"
      class="mb-3 border-b border-line pb-3"
      :open="changed.length < 4"
    >
      <summary class="cursor-pointer py-1">
        <span class="inline-block w-20 text-soft">{{ x.state }}</span>
        <span class="machine font-medium">{{ x.kind }} {{ x.name }}</span>
        <span v-if="x.errors" class="ml-4 text-failing"
          ><span aria-hidden="true">✖</span> {{ x.errors }}</span
        ><span v-if="x.warnings" class="ml-3 text-degraded"
          ><span aria-hidden="true">▲</span> {{ x.warnings }}</span
        >
        <span v-if="!x.readable" class="ml-3 text-failing">cannot be read</span>
      </summary>
      <div class="my-2 flex gap-4 text-table">
        <router-link
          v-if="x.state !== 'removed'"
          class="link"
          :to="`/changes/${draft}/edit/${x.kind}/${x.name}`"
          >Edit</router-link
        ><a href="#" class="link" @click.prevent="revert(x.kind, x.name)">{{
          x.state === 'removed' ? 'Keep it after all' : 'Give up'
        }}</a>
      </div>
      <MergeDiff
        v-if="texts(x.kind, x.name)"
        :before="texts(x.kind, x.name)!.before"
        :after="texts(x.kind, x.name)!.after"
        :left="x.state === 'added' ? 'Not published yet' : 'As published'"
        :right="x.state === 'removed' ? 'Removed' : `In draft ${draft}`"
      />
    </details>
    <AddDefinition
      v-model="adding"
      :draft="draft"
      :taken="(all?.items ?? []).map((x) => `${x.kind} ${x.name}`)"
    />
  </Answer>
</template>
