<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { client, ProblemError, take } from '../api/client'
import { useDrafts } from '../api/queries'
import { documents } from '../composables/documents'
import { useDoing } from '../composables/doing'
import { plural } from '../composables/format'
import { useWorkbench, type Row } from '../composables/workbench'
import Sheet from './Sheet.vue'

/** Keeps what is on the bench in a draft: the format with lines as its samples, the source, and the masks. */
const shown = defineModel<boolean>({ required: true })
const w = useWorkbench()
const { data: drafts } = useDrafts()
const router = useRouter()
const { busy, error, doing } = useDoing()
const draft = ref(0)
const withSource = ref(true)
const samples = ref(3)
const all = computed(() => [
  ...documents(w.bench.format),
  ...documents(w.bench.masks),
  ...(withSource.value ? documents(w.bench.source) : []),
])
/** Lines that hold no private data: a sample is read by everybody. One of each kind of outcome first. */
const fit = computed(() => {
  const private_ = new Set(
    w.hits.value.flatMap((h) => Array.from({ length: h.lines }, (_, i) => h.line + i)),
  )
  const ok = (w.tried.value?.records ?? []).filter(
    (r) => r.read && r.lines === 1 && !r.private?.length && !private_.has(r.line),
  )
  const seen = new Set<string>()
  const key = (r: Row) => `${r.level} ${Object.keys(r.fields).join()}`
  return [...ok.filter((r) => !seen.has(key(r)) && seen.add(key(r))), ...ok].filter(
    (r, i, list) => list.indexOf(r) === i,
  )
})
watch(shown, (now) => {
  if (now) {
    draft.value = w.bench.draft
    error.value = ''
  }
})

/** Fields as a sample says them: what the format gives, before steps. */
async function withSamples(text: string) {
  const warned = /^# This sample seems to hold private data.*\n/m
  const splice = async (value: unknown) =>
    (await take(client.POST('/splice', { body: { text, path: ['samples'], value } }))).text
  if (!samples.value || !fit.value.length)
    return warned.test(text) ? (await splice(null)).replace(warned, '') : text
  text = text.replace(warned, '')
  const t = await take(
    client.POST('/workbench/try', {
      body: {
        log: fit.value
          .slice(0, samples.value)
          .map((r) => r.original ?? r.body)
          .join('\n'),
        definitions: text,
        format: documents(text)[0]!.name,
        zone: w.bench.zone || 'UTC',
      },
    }),
  )
  const value = t.records
    .filter((r) => r.read)
    .map((r, i) => {
      const gives = Object.fromEntries(
        Object.entries(r.fields)
          .filter(([, v]) => typeof v !== 'object')
          .slice(0, 8),
      )
      return {
        line: fit.value[i]!.original ?? fit.value[i]!.body,
        ...(Object.keys(gives).length ? { gives } : {}),
        ...(r.level ? { level: r.level } : {}),
      }
    })
  if (!value.length) return text
  return splice(value)
}

/** The zone that was chosen on the bench goes along, where the texts do not name one themselves. */
async function withZone(list: typeof all.value) {
  const at = list.find((d) => d.kind === 'source') ?? list.find((d) => d.kind === 'format')
  if (!w.bench.zone || !at || list.some((d) => /\bzone:/.test(d.text))) return list
  const { text } = await take(
    client.POST('/splice', {
      body: { text: at.text, path: ['time', 'zone'], value: w.bench.zone },
    }),
  )
  return list.map((d) => (d === at ? { ...d, text } : d))
}

const save = () =>
  doing(async () => {
    let id = draft.value
    const list = await Promise.all(
      (await withZone(all.value)).map(async (d) =>
        d.kind === 'format' ? { ...d, text: await withSamples(d.text) } : d,
      ),
    )
    if (!id)
      id = (
        await take(
          client.POST('/drafts', {
            body: {
              title: `From the workbench: ${all.value[0]?.name ?? 'nothing'}`,
              whole: false,
              files: [],
            },
          }),
        )
      ).id
    for (const d of list) {
      const path = { draft: id, kind: d.kind, name: d.name }
      const have = await take(
        client.GET('/drafts/{draft}/definitions/{kind}/{name}', { params: { path } }),
      ).catch((e: unknown) => {
        if (e instanceof ProblemError && e.status === 404) return undefined
        throw e
      })
      await take(
        client.PUT('/drafts/{draft}/definitions/{kind}/{name}', {
          params: { path, header: { 'If-Match': have?.etag ?? '*' } },
          body: { text: d.text },
        }),
      )
    }
    w.bench.draft = id
    shown.value = false
    await router.push(`/changes/${id}/definitions`)
  })
</script>

<template>
  <Sheet
    v-model="shown"
    title="Save to a draft"
    about="Nothing runs anywhere until the draft is published and rolled out."
    :error="error"
  >
    <form id="save" class="mt-4 space-y-4" @submit.prevent="save">
      <div>
        <label for="save-draft" class="block font-medium">Draft</label>
        <select id="save-draft" v-model="draft" class="field mt-1 w-full">
          <option :value="0">A new draft</option>
          <option v-for="d in drafts?.items ?? []" :key="d.id" :value="d.id">
            {{ d.id }}, {{ d.title }}
          </option>
        </select>
      </div>
      <div v-if="documents(w.bench.format).length">
        <label for="save-samples" class="block font-medium">Lines as samples of the format</label>
        <input
          id="save-samples"
          v-model.number="samples"
          type="number"
          min="0"
          max="20"
          class="field mt-1 w-24"
        />
        <p class="mt-1 text-table text-soft">
          They are tests that run at every check.
          {{
            fit.length
              ? `${plural(fit.length, 'line')} of these hold no private data.`
              : 'None: every line here holds private data, and samples are read by everybody.'
          }}
        </p>
      </div>
      <label v-if="w.bench.source.trim()" class="flex items-center gap-2"
        ><input v-model="withSource" type="checkbox" /> The source too</label
      >
      <p class="text-table">
        Keeps
        <span v-for="d in all" :key="d.kind + d.name" class="machine mr-3"
          >{{ d.kind }} {{ d.name }}</span
        >
      </p>
    </form>
    <template #actions>
      <button type="button" class="button quiet" @click="shown = false">Cancel</button>
      <button type="submit" form="save" class="button" :disabled="busy || !all.length">
        {{ busy ? 'Keeping…' : 'Keep in the draft' }}
      </button>
    </template>
  </Sheet>
</template>
