<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { client, take, type Schemas } from '../api/client'
import Answer from '../components/Answer.vue'
import KnowSender from '../components/KnowSender.vue'
import PageHead from '../components/PageHead.vue'
import SenderCourse from '../components/SenderCourse.vue'
import { ago, moment, number, plural } from '../composables/format'

/** Who sends to listeners: the unknown first, each with its latest messages and a way into its source. */
const route = useRoute()
const source = computed(() => (route.query.source as string | undefined) || undefined)
const { data, isPending, error } = useQuery({
  queryKey: ['senders', source],
  queryFn: () => take(client.GET('/senders', { params: { query: { source: source.value } } })),
  refetchInterval: 15_000,
})
const key = (s: Schemas['Sender']) => `${s.source} ${s.host} ${s.address}`
const opened = ref('')
/** A row that the address names is open. */
watch(data, (now) => {
  const one = now?.items.find((s) => s.address === route.query.open)
  if (one && !opened.value) opened.value = key(one)
})
const unknown = computed(() => data.value?.items.filter((s) => !s.name).length ?? 0)
const looks = (s: Schemas['Sender']) =>
  s.format ? `${s.format}${s.share ? ` (${Math.round(100 * s.share)} %)` : ''}` : ''
</script>

<template>
  <PageHead title="Senders" back="Catalogue" back-to="/catalogue">
    <p class="text-soft">
      Devices without an agent that send to listeners, since the agents there started. Private data
      is covered.
    </p>
  </PageHead>
  <Answer :pending="isPending" :error="error" what="The senders">
    <p v-if="!data?.items.length" class="text-soft">
      Nobody. No host listens, or nothing was sent since its agent started.
    </p>
    <template v-else>
      <p class="mb-3">
        <template v-if="unknown"
          ><span class="text-degraded" aria-hidden="true">▲</span>
          {{ plural(unknown, 'sender') }} of {{ data.items.length }}
          {{ unknown === 1 ? 'is' : 'are' }} in no definition.</template
        ><template v-else
          ><span class="text-healthy" aria-hidden="true">●</span> All
          {{ plural(data.items.length, 'sender') }} are known.</template
        >
      </p>
      <div class="overflow-x-auto">
        <table class="grid-table">
          <thead>
            <tr>
              <th>Sender</th>
              <th>Address</th>
              <th>Source</th>
              <th>Host</th>
              <th>Heard</th>
              <th class="text-right">A minute</th>
              <th>Looks like</th>
            </tr>
          </thead>
          <tbody v-for="s in data.items" :key="key(s)">
            <tr>
              <td>
                <button
                  type="button"
                  class="link text-left"
                  :aria-expanded="opened === key(s)"
                  @click="opened = opened === key(s) ? '' : key(s)"
                >
                  <template v-if="s.name">{{ s.name }}</template><template v-else
                    ><span class="text-degraded" aria-hidden="true">▲</span> unknown</template
                  >
                </button>
              </td>
              <td class="machine">{{ s.address }}</td>
              <td>
                <RouterLink class="link machine" :to="`/catalogue/source/${s.source}`">{{
                  s.source
                }}</RouterLink>
              </td>
              <td>
                <RouterLink class="link machine" :to="`/hosts/${s.host}`">{{ s.host }}</RouterLink>
              </td>
              <td class="whitespace-nowrap" :title="s.last ? moment(s.last) : ''">
                {{ s.last ? ago(s.last) : 'never' }}
              </td>
              <td class="text-right">{{ number(s.minute) }}</td>
              <td>{{ looks(s) }}</td>
            </tr>
            <tr v-if="opened === key(s)">
              <td colspan="7" class="!pb-4">
                <p class="text-soft">
                  {{ number(s.messages) }} messages<template v-if="s.first">
                    since {{ moment(s.first) }}</template
                  ><template v-if="s.unparsed"
                    >, {{ number(s.unparsed) }} not read by the format</template
                  ><template v-if="s.missed"
                    >, {{ number(s.missed) }} lost for want of room</template
                  >
                </p>
                <p
                  v-for="(e, i) in s.examples.slice(-5)"
                  :key="i"
                  class="machine mt-1 break-all whitespace-pre-wrap"
                >
                  {{ e }}
                </p>
                <KnowSender v-if="!s.name" :sender="s" />
                <SenderCourse v-else :source="s.source" :name="s.name" />
              </td>
            </tr>
          </tbody>
        </table>
      </div>
    </template>
    <p v-for="s in data?.silent" :key="s.host" class="mt-2 text-table text-soft">
      <span class="machine">{{ s.host }}</span> could not be asked: {{ s.reason }}
    </p>
    <p v-if="data?.more" class="mt-2 text-table text-soft">
      {{ plural(data.more, 'more host') }} were not asked.
    </p>
  </Answer>
</template>
