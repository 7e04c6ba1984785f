<script setup lang="ts">
import { useQueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'
import { client, take, type Schemas } from '../api/client'
import { useRejects } from '../api/queries'
import { ago, bytes, moment, number, plural, sentence } from '../composables/format'
import Answer from './Answer.vue'
import ConfirmDialog from './ConfirmDialog.vue'

/** What hosts keep of what a destination refused, by cause: look, send again, discard. */
const props = defineProps<{ destination: string }>()
const { data, isPending, error } = useRejects(() => props.destination)
const queries = useQueryClient()
const asked = ref<{ what: 'resend' | 'discard'; cause: Schemas['RejectCause']; most?: number }>()
const outcome = ref<Schemas['RejectOutcome']>()
const did = ref('')

async function act() {
  const { what, cause, most } = asked.value!
  const call = {
    params: { path: { destination: props.destination } },
    body: { cause: cause.cause, source: cause.source, most },
  }
  outcome.value = await take(
    what === 'resend'
      ? client.POST('/destinations/{destination}/rejects/resend', call)
      : client.POST('/destinations/{destination}/rejects/discard', call),
  )
  did.value = what === 'resend' ? 'sent again' : 'discarded'
  await queries.invalidateQueries({ queryKey: ['rejects'] })
}
</script>

<template>
  <ConfirmDialog
    v-if="asked"
    :title="asked.what === 'resend' ? 'Send rejects again' : 'Discard rejects'"
    :words="
      asked.what === 'resend'
        ? asked.most
          ? `Ten of ${plural(asked.cause.records, 'record')} of ${asked.cause.source}, to see whether the mend holds. The others stay where they are.`
          : `${plural(asked.cause.records, 'record')} of ${asked.cause.source} on ${plural(asked.cause.hosts.length, 'host')}: each host tries ten first. Where one is refused again, the host stops and the others stay.`
        : `${plural(asked.cause.records, 'record')} of ${asked.cause.source} on ${plural(asked.cause.hosts.length, 'host')} are deleted. They cannot be brought back.`
    "
    :verb="asked.what === 'resend' ? 'Send again' : 'Discard'"
    :act="act"
    @close="asked = undefined"
  />
  <section
    v-if="outcome"
    role="status"
    class="mb-6 rounded-md border border-line bg-sheet px-4 py-3"
  >
    <p>{{ plural(outcome.done, 'record') }} {{ did }}.</p>
    <ul>
      <li v-for="h in outcome.items.filter((x) => x.error || x.answer || x.left)" :key="h.host">
        <span class="machine">{{ h.host }}</span>:
        {{ sentence(h.error || h.answer || 'there are others; do it again') }}
      </li>
    </ul>
  </section>
  <Answer :pending="isPending" :error="error" what="The rejects">
    <p v-if="!data?.items.length" class="text-soft">
      Nothing. Records that the destination refuses for good are kept on their hosts and listed
      here.
    </p>
    <article
      v-for="c in data?.items"
      :key="`${c.cause} ${c.source} ${c.reason}`"
      class="border-b border-line py-4"
    >
      <div class="flex flex-wrap items-baseline gap-x-4 gap-y-2">
        <h2 class="text-section font-semibold">
          {{ number(c.records) }} of <span class="machine">{{ c.source }}</span>
        </h2>
        <span class="text-soft">{{ bytes(c.bytes) }}</span>
        <span class="text-soft" :title="`${moment(c.first)} to ${moment(c.last)}`"
          >the last {{ ago(c.last) }}</span
        >
        <span class="ml-auto flex gap-2">
          <button
            v-if="c.records > 10"
            type="button"
            class="button quiet"
            @click="asked = { what: 'resend', cause: c, most: 10 }"
          >
            Try ten…
          </button>
          <button type="button" class="button" @click="asked = { what: 'resend', cause: c }">
            Send again…
          </button>
          <button type="button" class="button quiet" @click="asked = { what: 'discard', cause: c }">
            Discard…
          </button>
        </span>
      </div>
      <p class="mt-1 break-words">{{ sentence(c.reason) }}</p>
      <p class="mt-1 text-soft">
        On {{ plural(c.hosts.length, 'host') }}:
        <template v-for="(h, i) in c.hosts.slice(0, 5)" :key="h"
          ><template v-if="i">, </template
          ><router-link :to="`/hosts/${h}`" class="link machine">{{ h }}</router-link></template
        ><template v-if="c.hosts.length > 5"> and {{ c.hosts.length - 5 }} more</template>
      </p>
      <pre
        v-if="c.example"
        class="machine mt-2 overflow-x-auto rounded-md border border-line bg-sheet p-3 whitespace-pre-wrap break-all"
        >{{ c.example }}</pre>
    </article>
    <p v-for="s in data?.silent" :key="s.host" class="mt-2 text-soft">
      <span class="machine">{{ s.host }}</span> could not be asked: {{ s.reason }}
    </p>
  </Answer>
</template>
