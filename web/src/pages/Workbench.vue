<script setup lang="ts">
import { computed, onMounted, ref } from 'vue'
import { useRoute } from 'vue-router'
import { client, take } from '../api/client'
import PageHead from '../components/PageHead.vue'
import WorkDefinitions from '../components/WorkDefinitions.vue'
import WorkLines from '../components/WorkLines.vue'
import WorkRecord from '../components/WorkRecord.vue'
import WorkRecords from '../components/WorkRecords.vue'
import WorkSave from '../components/WorkSave.vue'
import WorkSums from '../components/WorkSums.vue'
import { useWorkbench } from '../composables/workbench'

const w = useWorkbench()
const { tried, error, lineCount } = w
const route = useRoute()
const at = ref(0)
const saving = ref(false)
const row = computed(() => tried.value?.records.find((r) => r.line === at.value))
const timeField = computed(
  () => /^time:.*\bfield:\s*["']?([\w.@$-]+)/m.exec(w.bench.format)?.[1] ?? '',
)
const something = computed(
  () => w.bench.format.trim() || w.bench.source.trim() || w.bench.masks.trim(),
)

// The address may say what is put on the bench: a definition, or a log of a host.
onMounted(async () => {
  const q = route.query as Record<string, string | undefined>
  if (q.source || q.format)
    await w.open(q.source ? 'source' : 'format', (q.source ?? q.format)!, Number(q.draft ?? 0))
  if (!q.host || !q.path) return
  try {
    const l = await take(
      client.GET('/hosts/{host}/lines', {
        params: { path: { host: q.host }, query: { path: q.path } },
      }),
    )
    Object.assign(w.bench, {
      lines: l.lines.join('\n') + '\n',
      from: `${l.path} on ${q.host}`,
      modified: l.modified,
      encoding: l.encoding ?? '',
      host: q.host,
    })
  } catch (e) {
    error.value = e instanceof Error ? e.message : String(e)
  }
})
</script>

<template>
  <PageHead title="Workbench">
    <p class="text-soft">
      Formats, steps and masks on real lines, by the hosts' own code. Kept only when you save.
    </p>
    <template #actions>
      <button v-if="lineCount || something" class="button quiet" @click="w.clear()">
        Clear the bench
      </button>
      <button class="button" :disabled="!something" @click="saving = true">Save to a draft…</button>
    </template>
  </PageHead>
  <p v-if="error" role="alert" class="mb-4 rounded-md border border-failing px-4 py-2 text-failing">
    {{ error }}
  </p>
  <div class="grid gap-6 lg:grid-cols-2">
    <WorkLines />
    <WorkDefinitions />
  </div>
  <section v-if="tried && lineCount" class="mt-6" aria-label="What comes of the lines">
    <WorkSums :tried="tried" />
    <WorkRecords v-if="tried.records.length" v-model="at" :tried="tried" :without="timeField" />
    <WorkRecord v-if="row" :row="row" />
  </section>
  <WorkSave v-model="saving" />
</template>
