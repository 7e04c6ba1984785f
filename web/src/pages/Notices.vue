<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { ref } from 'vue'
import { client, queryClient, take, type Schemas } from '../api/client'
import Answer from '../components/Answer.vue'
import MaintenanceList from '../components/MaintenanceList.vue'
import PageHead from '../components/PageHead.vue'
import StateMark from '../components/StateMark.vue'
import { useDoing } from '../composables/doing'
import { ago, moment, plural, sentence } from '../composables/format'

/** Who is told of what is wrong: what is open, how messages went, and of which hosts nothing is told. */
const { data, isPending, error } = useQuery({
  queryKey: ['notices'],
  queryFn: () => take(client.GET('/notices')),
  refetchInterval: 10_000,
})
const { error: failed, doing } = useDoing()
const word = ref('')
const at = ref('')
const acknowledge = (notice: string, cause: string) =>
  doing(async () => {
    await take(
      client.POST('/notices/{notice}/acknowledge', {
        params: { path: { notice } },
        body: { cause, word: word.value.trim() || undefined },
      }),
    )
    at.value = word.value = ''
    await queryClient.invalidateQueries({ queryKey: ['notices'] })
  })
const went = (m: Schemas['SentMessage']) =>
  m.done
    ? m.error
      ? `not delivered: ${m.error}`
      : 'delivered'
    : m.error
      ? `tried ${plural(m.tries, 'time')}: ${m.error}`
      : 'on its way'
</script>

<template>
  <PageHead title="Notices"
    ><p class="text-soft">
      Who is told of what is wrong. A notice is a definition. What it would have told in the last
      week is told before it is published:
      <span class="machine">synaxis notice try NAME --draft N</span>.
    </p></PageHead
  >
  <p v-if="failed" role="alert" class="mb-4 text-failing">{{ failed }}</p>
  <Answer :pending="isPending" :error="error" what="The notices">
    <p v-if="!data?.items.length" class="mb-10 text-soft">
      No notice is published yet. Begin one in a draft:
      <router-link to="/changes" class="link">Changes</router-link>.
    </p>
    <section v-for="n in data?.items" :key="n.name" class="mb-10">
      <h2 class="text-section font-semibold">
        <router-link :to="`/catalogue/notice/${n.name}`" class="link machine">{{
          n.name
        }}</router-link>
      </h2>
      <p class="mb-3 text-soft">
        Tells {{ n.to.join('; ') }} when <code class="machine">{{ n.when }}</code>
      </p>
      <p v-if="!n.alerts.length">Nothing is open.</p>
      <ul v-else class="border-t border-line">
        <li
          v-for="x in n.alerts"
          :key="x.cause"
          class="grid items-baseline gap-x-6 gap-y-1 border-b border-line py-2.5 md:grid-cols-[7rem_1fr_16rem]"
        >
          <StateMark :state="x.state" />
          <div class="min-w-0">
            <p class="break-words">{{ sentence(x.words) }}</p>
            <p class="text-soft">
              <template v-if="x.where">On {{ x.where }}, since</template
              ><template v-else>Since</template> {{ moment(x.since) }};
              {{ x.told ? `told ${ago(x.told)}` : 'not told yet' }}
            </p>
          </div>
          <p v-if="x.acknowledgedBy" class="text-soft">
            {{ x.acknowledgedBy }} looks after it<template v-if="x.word">: {{ x.word }}</template>
          </p>
          <form
            v-else-if="at === n.name + x.cause"
            class="flex gap-2"
            @submit.prevent="acknowledge(n.name, x.cause)"
          >
            <input
              v-model="word"
              class="field min-w-0 flex-1"
              aria-label="A word to others"
              placeholder="a word to others"
            /><button class="button !h-9">Look after it</button>
          </form>
          <button
            v-else
            class="button quiet !h-9 md:justify-self-end"
            @click="at = n.name + x.cause"
          >
            Look after it…
          </button>
        </li>
      </ul>
      <table v-if="n.messages.length" class="mt-4 w-full text-table">
        <thead>
          <tr class="h-8 border-b border-line text-left text-soft">
            <th class="pr-6 font-normal">Message</th>
            <th class="pr-6 font-normal">Says</th>
            <th class="font-normal">Went</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="m in n.messages" :key="m.id" class="border-b border-line align-top">
            <td class="py-1.5 pr-6 whitespace-nowrap">{{ moment(m.at) }}</td>
            <td class="py-1.5 pr-6 break-words">{{ m.subject }}</td>
            <td class="py-1.5 break-words">{{ went(m) }}</td>
          </tr>
        </tbody>
      </table>
    </section>
    <MaintenanceList />
  </Answer>
</template>
