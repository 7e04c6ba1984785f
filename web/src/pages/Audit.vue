<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { client, take, type Schemas } from '../api/client'
import { useAudit, type AuditFilter } from '../api/queries'
import Answer from '../components/Answer.vue'
import PageHead from '../components/PageHead.vue'
import { cell, download } from '../composables/csv'
import { useDoing } from '../composables/doing'
import { moment } from '../composables/format'

const route = useRoute()
const router = useRouter()
const names = ['who', 'action', 'object', 'text', 'since', 'until'] as const
const boxes = ref(
  Object.fromEntries(
    names.map((n) => [n, typeof route.query[n] === 'string' ? route.query[n] : '']),
  ) as Record<(typeof names)[number], string>,
)
watch(
  boxes,
  (b) => router.replace({ query: Object.fromEntries(Object.entries(b).filter(([, v]) => v)) }),
  { deep: true },
)
const day = (s: string) =>
  /^\d{4}-\d{2}-\d{2}$/.test(s) ? new Date(`${s}T00:00`).toISOString() : undefined
const filter = computed<AuditFilter>(() => {
  const b = boxes.value
  return {
    who: b.who || undefined,
    action: b.action || undefined,
    object: b.object || undefined,
    text: b.text || undefined,
    since: day(b.since),
    until: day(b.until),
  }
})
const { data, isPending, error } = useAudit(filter)
const { busy, error: failed, doing } = useDoing()
const opened = ref<string>()
const actions = ['host', 'join-token', 'newcomer', 'draft', 'rollout', 'secret']

const save = () =>
  doing(async () => {
    const all: Schemas['AuditEntry'][] = []
    for (let after: string | undefined; ;) {
      const page: Schemas['AuditList'] = await take(
        client.GET('/audit', { params: { query: { ...filter.value, limit: 1000, after } } }),
      )
      all.push(...page.items)
      after = page.next
      if (!after) break
    }
    const text = [
      'id,at,who,from,what,of,before,after',
      ...all.map((e) =>
        [e.id, e.at, e.who, e.origin, e.action, e.object, e.before, e.after].map(cell).join(','),
      ),
    ].join('\n')
    download('audit.csv', text + '\n')
  })
function pretty(s: string) {
  try {
    const v: unknown = JSON.parse(s)
    return typeof v === 'string' ? v : JSON.stringify(v, null, 1).replace(/^\{\n|\n\}$/g, '')
  } catch {
    return s
  }
}
</script>

<template>
  <PageHead title="Audit"
    ><p class="text-soft">Every change by a person: who, when, from where, before and after.</p>
    <template #actions
      ><button class="button quiet" :disabled="busy" @click="save">
        Download as CSV
      </button></template
    ></PageHead
  >
  <p v-if="failed" role="alert" class="mb-4 text-failing">{{ failed }}</p>
  <form class="mb-4 flex flex-wrap items-end gap-3 text-table" @submit.prevent>
    <label class="block">Who<input v-model="boxes.who" class="field mt-1 block w-32" /></label>
    <label class="block"
      >What<select v-model="boxes.action" class="field mt-1 block w-36">
        <option value="">everything</option>
        <option v-for="a in actions" :key="a">{{ a }}</option>
      </select></label
    >
    <label class="block"
      >Of<input
        v-model="boxes.object"
        class="field machine mt-1 block w-44"
        placeholder="part of its name"
    /></label>
    <label class="block"
      >Before or after holds<input v-model="boxes.text" class="field machine mt-1 block w-44"
    /></label>
    <label class="block"
      >From<input v-model="boxes.since" type="date" class="field mt-1 block"
    /></label>
    <label class="block"
      >Until before<input v-model="boxes.until" type="date" class="field mt-1 block"
    /></label>
  </form>
  <Answer :pending="isPending" :error="error" what="The audit">
    <p v-if="!data?.items.length" class="text-soft">No change fits.</p>
    <table v-else class="grid-table">
      <thead>
        <tr>
          <th>When</th>
          <th>Who</th>
          <th>From</th>
          <th>What</th>
          <th>Of</th>
          <th>Change</th>
        </tr>
      </thead>
      <tbody>
        <template v-for="e in data.items" :key="e.id">
          <tr class="cursor-pointer" @click="opened = opened === e.id ? undefined : e.id">
            <td class="whitespace-nowrap">
              <button
                type="button"
                :aria-expanded="opened === e.id"
                :aria-label="`What ${e.action} of ${moment(e.at)} changed`"
              >
                {{ moment(e.at) }}
              </button>
            </td>
            <td>{{ e.who }}</td>
            <td class="machine">{{ e.origin }}</td>
            <td class="whitespace-nowrap">{{ e.action }}</td>
            <td class="machine">{{ e.object }}</td>
            <td class="machine max-w-[24rem] truncate">
              {{ e.before ? `${e.before} → ${e.after}` : e.after }}
            </td>
          </tr>
          <tr v-if="opened === e.id">
            <td colspan="6">
              <div class="grid grid-cols-2 gap-6 py-2">
                <div>
                  <p class="text-soft">Before</p>
                  <pre
                    class="machine max-h-80 overflow-auto rounded-md bg-sunk p-3 whitespace-pre-wrap"
                    >{{ pretty(e.before) || 'nothing' }}</pre>
                </div>
                <div>
                  <p class="text-soft">After</p>
                  <pre
                    class="machine max-h-80 overflow-auto rounded-md bg-sunk p-3 whitespace-pre-wrap"
                    >{{ pretty(e.after) || 'nothing' }}</pre>
                </div>
              </div>
            </td>
          </tr>
        </template>
      </tbody>
    </table>
    <p v-if="data?.next" class="mt-3 text-soft">
      The newest {{ data.items.length }} are shown. Narrow the filter, or download all.
    </p>
  </Answer>
</template>
