<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useCatalogue, useHosts } from '../api/queries'
import PageHead from '../components/PageHead.vue'
import PeekRecord from '../components/PeekRecord.vue'
import { plural, until } from '../composables/format'
import { usePeek } from '../composables/peek'
import { useWorkbench } from '../composables/workbench'

/** Records of a source as they come. */
const route = useRoute()
const router = useRouter()
const { data: catalogue } = useCatalogue()
const { data: hosts } = useHosts({})
const { bench, open } = useWorkbench()
const { begin, end, records, gone, error, running, start, stop } = usePeek()
const q = route.query as Record<string, string | undefined>
const source = ref(q.source ?? '')
const on = ref(q.host ?? '')
const where = ref('')
const seconds = ref(60)
const unmasked = ref(false)
const clear = ref(false) // of what is shown now
const sources = computed(() => (catalogue.value?.items ?? []).filter((d) => d.kind === 'source'))

function look() {
  const one = on.value !== 'all' && /^[a-z0-9][a-z0-9.-]*$/i.test(on.value) // a choice has more to it
  clear.value = unmasked.value
  void router.replace({ query: { source: source.value, host: on.value || undefined } })
  void start(
    {
      source: source.value,
      host: one ? on.value : undefined,
      hosts: !one && on.value ? on.value : undefined,
      where: where.value || undefined,
      seconds: seconds.value,
    },
    unmasked.value,
  )
}
async function toWorkbench() {
  const lines = [...records.value].reverse().map((r) => r.record.original ?? r.record.body)
  await open('source', source.value, 0)
  Object.assign(bench, {
    lines: lines.join('\n') + '\n',
    from: `records of ${source.value} as they came`,
    modified: new Date().toISOString(),
    encoding: '',
    host: on.value,
  })
  await router.push('/workbench')
}
onMounted(() => source.value && look())
onBeforeUnmount(stop)
</script>

<template>
  <PageHead title="Live look" back="Workbench" back-to="/workbench">
    <p class="text-soft">
      Records as they come, before and after their steps. Private data is covered; every look is in
      the audit.
    </p>
    <template v-if="records.length" #actions>
      <button class="button quiet" @click="toWorkbench">Take these to the workbench</button>
    </template>
  </PageHead>
  <form class="mb-4 flex flex-wrap items-end gap-4" @submit.prevent="look">
    <label class="text-table"
      ><span class="block font-medium">Source</span
      ><select v-model="source" class="field machine !h-9 w-48" required>
        <option v-for="s in sources" :key="s.name">{{ s.name }}</option>
      </select></label
    >
    <label class="text-table"
      ><span class="block font-medium">Host, or a choice of hosts</span
      ><input
        v-model="on"
        class="field machine !h-9 w-56"
        list="peek-hosts"
        placeholder="all that run it"
        autocomplete="off" /><datalist id="peek-hosts">
        <option v-for="h in hosts?.items ?? []" :key="h.name" :value="h.name" /></datalist
    ></label>
    <label class="text-table"
      ><span class="block font-medium">Where</span
      ><input v-model="where" class="field machine !h-9 w-56" placeholder="level >= WARN"
    /></label>
    <label class="text-table"
      ><span class="block font-medium">For</span
      ><select v-model.number="seconds" class="field !h-9">
        <option :value="60">1 minute</option>
        <option :value="300">5 minutes</option>
        <option :value="600">10 minutes</option>
      </select></label
    >
    <label class="flex h-9 items-center gap-2 text-table"
      ><input v-model="unmasked" type="checkbox" /> Show private data</label
    >
    <button v-if="running" type="button" class="button quiet" @click="stop">Stop</button
    ><button v-else class="button">Look</button>
  </form>
  <p v-if="error" role="alert" class="mb-4 rounded-md border border-failing px-4 py-2 text-failing">
    {{ error }}
  </p>
  <p v-if="begin" class="mb-2 text-table text-soft" aria-live="polite">
    <template v-if="running"
      >◌ {{ plural(begin.hosts?.length ?? 0, 'host') }},
      {{ until(begin.until).replace('within', 'for another') }}</template
    ><template v-else-if="end"
      >It is over: {{ plural(end.shown ?? 0, 'record') }} shown of
      {{ (end.passed ?? 0).toLocaleString('en') }} that came<template v-if="where"
        >; {{ (end.met ?? 0).toLocaleString('en') }} of
        {{ (end.looked ?? 0).toLocaleString('en') }} that were looked at met the condition</template
      ></template
    ><template v-else>Stopped</template
    ><template v-if="begin.away">; {{ plural(begin.away, 'host') }} away</template
    ><template v-if="begin.left">; {{ plural(begin.left, 'more host') }} not looked at</template>
  </p>
  <p v-for="g in gone" :key="g" class="text-table text-degraded">▲ {{ g }}</p>
  <ul v-if="records.length" class="border-t border-line" aria-label="Records">
    <PeekRecord
      v-for="r in records"
      :key="r.n"
      :seen="r"
      :clear="clear"
      :hosts="(begin?.hosts?.length ?? 0) > 1"
    />
  </ul>
  <p v-else-if="running" class="text-soft">Nothing has come yet.</p>
  <p v-else-if="!begin && !error" class="text-soft">
    Choose a source, and look. A look shows up to 20 records a second, and ends when you leave the
    page.
  </p>
</template>
