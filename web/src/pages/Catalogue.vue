<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useCatalogue } from '../api/queries'
import Answer from '../components/Answer.vue'
import PageHead from '../components/PageHead.vue'
import { number } from '../composables/format'
import { rowKeys } from '../composables/rows'

const { data, isPending, error } = useCatalogue()
const route = useRoute()
const router = useRouter()
const text = ref(typeof route.query.q === 'string' ? route.query.q : '')
watch(text, (q) => router.replace({ query: { ...route.query, q: q || undefined } }))
const kind = computed(() => route.query.kind as string | undefined)
const kinds = computed(() => {
  const n = new Map<string, number>()
  for (const d of data.value?.items ?? []) n.set(d.kind, (n.get(d.kind) ?? 0) + 1)
  return [...n]
})
const rows = computed(() =>
  (data.value?.items ?? []).filter(
    (d) =>
      (!kind.value || d.kind === kind.value) &&
      `${d.name} ${d.about}`.toLowerCase().includes(text.value.toLowerCase()),
  ),
)
const open = (k: string, n: string) => router.push(`/catalogue/${k}/${n}`)
</script>

<template>
  <PageHead title="Catalogue"
    ><p v-if="data?.revision" class="text-soft">
      As published in revision {{ data.revision }}. It is changed in a draft.
    </p>
    <template v-if="data?.revision" #actions
      ><router-link class="button quiet" to="/senders">Senders</router-link
      ><router-link class="button quiet" to="/unclaimed">Unclaimed</router-link
      ><router-link class="button quiet" to="/coverage">What is masked</router-link></template
    ></PageHead
  >
  <Answer :pending="isPending" :error="error" what="The catalogue">
    <p v-if="!data?.revision" class="text-soft">
      Nothing has been published yet.
      <router-link to="/changes" class="link">Begin a draft</router-link>, or load a folder of
      definitions with <span class="machine text-ink">synaxis draft load DIR</span>.
    </p>
    <template v-else>
      <div class="mb-4 flex flex-wrap items-center gap-4">
        <input
          v-model="text"
          type="search"
          class="field w-80"
          placeholder="Part of a name or description"
          aria-label="Filter definitions"
        />
        <ul class="flex flex-wrap gap-2">
          <li v-for="[k, n] in kinds" :key="k">
            <router-link
              :to="{ query: { ...route.query, kind: kind === k ? undefined : k } }"
              class="inline-flex h-8 items-center gap-2 rounded-md border px-3 text-table"
              :class="kind === k ? 'border-accent bg-sunk' : 'border-line'"
              ><span class="font-mono">{{ number(n) }}</span
              >{{ k }}</router-link
            >
          </li>
        </ul>
      </div>
      <table class="grid-table">
        <thead>
          <tr>
            <th>Kind</th>
            <th>Name</th>
            <th class="!text-right">Hosts</th>
            <th class="!text-right">Changed in</th>
            <th>File</th>
            <th>About</th>
          </tr>
        </thead>
        <tbody>
          <tr
            v-for="d in rows"
            :key="d.kind + d.name"
            tabindex="0"
            @click="open(d.kind, d.name)"
            @keydown="rowKeys($event, () => open(d.kind, d.name))"
          >
            <td class="text-soft">{{ d.kind }}</td>
            <td class="machine font-medium whitespace-nowrap">{{ d.name }}</td>
            <td class="num">
              {{ ['source', 'settings', 'agents'].includes(d.kind) ? number(d.hosts) : '–' }}
            </td>
            <td class="num">{{ d.changed }}</td>
            <td class="machine whitespace-nowrap text-soft">{{ d.file }}:{{ d.line }}</td>
            <td>{{ d.about }}</td>
          </tr>
        </tbody>
      </table>
    </template>
  </Answer>
</template>
