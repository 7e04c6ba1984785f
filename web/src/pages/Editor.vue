<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { client, take } from '../api/client'
import { useDraft, useDraftDefinitions, useLanguage } from '../api/queries'
import CodeEditor from '../components/CodeEditor.vue'
import FormField from '../components/FormField.vue'
import KeyHelp from '../components/KeyHelp.vue'
import LineFindings from '../components/LineFindings.vue'
import MergeDiff from '../components/MergeDiff.vue'
import PageHead from '../components/PageHead.vue'
import PlanWaves from '../components/PlanWaves.vue'
import WhoGets from '../components/WhoGets.vue'
import { builtIn, completer, type Names } from '../composables/completion'
import { useEditing } from '../composables/editing'
import { ago } from '../composables/format'
import { placeAt } from '../composables/place'
import { tree, type Value } from '../composables/tree'

const props = defineProps<{ draft: string; kind: string; name: string }>()
const route = useRoute()
const router = useRouter()
const id = computed(() => Number(props.draft))
const { data: d } = useDraft(id)
const { data: language } = useLanguage()
const { data: all } = useDraftDefinitions(id)
const e = useEditing(
  () => id.value,
  () => props.kind,
  () => props.name,
)
const { text, published, ready, error, stale, keptAt, dirty, tried } = e
const kindOf = computed(() => language.value?.kinds.find((k) => k.kind === props.kind))
const names = computed<Names>(() => {
  const out: Names = {}
  for (const x of all.value?.items ?? [])
    if (x.state !== 'removed') (out[x.kind] ??= []).push(x.name)
  for (const kind in builtIn) out[kind] = [...(out[kind] ?? []), ...builtIn[kind]!]
  return out
})
const complete = completer(
  () => language.value,
  () => names.value,
  () => props.kind,
)
const branch = computed(() => tree(kindOf.value?.keys ?? []))
const begin = computed(() =>
  (kindOf.value?.example ?? `${props.kind}: NAME\n`).replace(
    /^[\w-]+: .*/,
    `${props.kind}: ${props.name}`,
  ),
)
watch(
  [() => props.draft, () => props.kind, () => props.name, () => !!kindOf.value],
  () => kindOf.value && e.load(begin.value),
  { immediate: true },
)

const views = ['form', 'hosts', 'help', 'differences'] as const
const view = computed(() => views.find((v) => v === route.query.view) ?? 'form')
const viewName = (v: string) =>
  v !== 'hosts'
    ? v[0]!.toUpperCase() + v.slice(1)
    : props.kind === 'plan'
      ? 'Waves'
      : 'Who gets this'
const position = ref(0)
const place = computed(() => placeAt(text.value, position.value))
const editor = ref<InstanceType<typeof CodeEditor>>()
const findings = computed(() => tried.value?.findings ?? [])

async function revert() {
  try {
    await take(
      client.POST('/drafts/{draft}/definitions/{kind}/{name}/revert', {
        params: { path: { draft: id.value, kind: props.kind, name: props.name } },
      }),
    )
    if (published.value) await e.load(begin.value)
    else await router.push(`/changes/${id.value}/definitions`)
  } catch (x) {
    error.value = x instanceof Error ? x.message : String(x)
  }
}
</script>

<template>
  <PageHead
    :title="name"
    :back="d?.title ?? `Draft ${draft}`"
    :back-to="`/changes/${draft}/definitions`"
    machine
  >
    <p class="text-soft">
      {{ kind }} in draft {{ draft }} ·
      <span role="status">{{
        error
          ? 'not kept'
          : dirty
            ? 'keeping…'
            : keptAt
              ? `kept in the draft ${ago(keptAt)}`
              : 'as it was read; changes keep themselves'
      }}</span>
    </p>
    <template #actions>
      <button v-if="published && text !== published" class="button quiet" @click="revert">
        Give up the changes
      </button>
      <router-link
        v-if="kind === 'source' || kind === 'format'"
        class="button quiet"
        :to="{ path: '/workbench', query: { [kind]: name, draft } }"
        >Try it on lines</router-link
      >
      <router-link :to="`/changes/${draft}/findings`" class="button">To the draft</router-link>
    </template>
  </PageHead>
  <div
    v-if="error"
    role="alert"
    class="mb-4 flex flex-wrap items-center justify-between gap-3 rounded-md border border-failing px-4 py-2"
  >
    <p class="text-failing">{{ error }}</p>
    <button v-if="stale" class="button quiet" @click="e.load(begin)">
      Read it again, and lose what is here
    </button>
  </div>
  <div
    v-if="ready"
    class="grid gap-6 xl:grid-cols-[minmax(0,1fr)_minmax(0,26rem)]"
    :class="{ '!grid-cols-1': view === 'differences' }"
  >
    <div class="min-w-0">
      <CodeEditor
        ref="editor"
        v-model="text"
        :findings="findings"
        :complete="complete"
        :label="`Text of ${kind} ${name}`"
        @place="position = $event"
      />
      <LineFindings :findings="findings" :tried="!!tried" @go="editor?.go($event)" />
    </div>
    <div class="min-w-0">
      <nav class="mb-4 flex gap-6 border-b border-line" aria-label="Beside the text">
        <router-link
          v-for="v in views"
          :key="v"
          :to="{ query: { view: v } }"
          replace
          class="-mb-px border-b-2 pb-2"
          :class="
            v === view ? 'border-accent font-medium' : 'border-transparent text-soft hover:text-ink'
          "
        >
          {{ viewName(v)
          }}<span v-if="v === 'hosts' && kind !== 'plan' && tried" class="machine ml-1 text-soft">{{
            tried.chosen
          }}</span>
        </router-link>
      </nav>
      <FormField
        v-if="view === 'form' && tried?.value"
        :of="branch"
        :value="tried.value as Value"
        :path="[]"
        :names="names"
        :label="kind"
        @edit="e.splice"
      />
      <p v-else-if="view === 'form'" class="text-soft">
        The form comes back as soon as the text can be read.
      </p>
      <PlanWaves
        v-else-if="view === 'hosts' && kind === 'plan'"
        :draft="id"
        :plan="name"
        :kept="keptAt"
      />
      <WhoGets v-else-if="view === 'hosts'" :tried="tried" />
      <KeyHelp v-else-if="view === 'help'" :kind="kindOf" :place="place" />
      <MergeDiff
        v-else
        :before="published"
        :after="text"
        :left="published ? 'As published' : 'Not published yet'"
        :right="`In draft ${draft}`"
      />
    </div>
  </div>
</template>
