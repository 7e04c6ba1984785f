<script setup lang="ts">
import { ref, watch } from 'vue'
import { client, queryClient, take, type Schemas } from '../api/client'
import { useJoinTokens } from '../api/queries'
import Answer from '../components/Answer.vue'
import CopyText from '../components/CopyText.vue'
import Labels from '../components/Labels.vue'
import PageHead from '../components/PageHead.vue'
import Sheet from '../components/Sheet.vue'
import { useDoing } from '../composables/doing'
import { moment } from '../composables/format'

const { data, isPending, error } = useJoinTokens()
const asking = ref(false)
const labels = ref('')
const uses = ref(1)
const lasts = ref('24h')
const which = ref<'new' | 'one' | 'listed'>('new')
const host = ref('')
const forWhom = (t: Schemas['JoinToken']) =>
  t.host ?? (t.listed ? 'new and listed hosts' : 'new hosts')
const made = ref<Schemas['CreatedJoinToken']>()
const { busy, error: failed, doing } = useDoing()
watch(asking, (now) => {
  if (now) {
    made.value = undefined
    failed.value = ''
  }
})
const fresh = () => queryClient.invalidateQueries({ queryKey: ['join-tokens'] })
const create = () =>
  doing(async () => {
    const words = labels.value.split(/\s+/).filter(Boolean)
    if (which.value === 'one' && !host.value.trim())
      throw new Error('Say which host the token is for')
    const bad = words.find((w) => !/^[^=]+=/.test(w))
    if (bad) throw new Error(`${bad}: write labels as KEY=VALUE`)
    made.value = await take(
      client.POST('/join-tokens', {
        body: {
          labels: Object.fromEntries(
            words.map((w) => [w.slice(0, w.indexOf('=')), w.slice(w.indexOf('=') + 1)]),
          ),
          uses: which.value === 'one' ? 1 : uses.value,
          lasts: lasts.value,
          host: which.value === 'one' ? host.value.trim() : '',
          listed: which.value === 'listed',
        },
      }),
    )
    await fresh()
  })
const revoke = (id: string) =>
  doing(async () => {
    await take(client.DELETE('/join-tokens/{id}', { params: { path: { id } } }))
    await fresh()
  })
const mark = { valid: '●', 'used-up': '–', expired: '–', revoked: '–' } as const
</script>

<template>
  <PageHead title="Join tokens"
    ><p class="text-soft">A token lets new agents join, and gives their hosts labels.</p>
    <template #actions
      ><button class="button" @click="asking = true">New token…</button></template
    ></PageHead
  >
  <p v-if="failed && !asking" role="alert" class="mb-4 text-failing">{{ failed }}</p>
  <Answer :pending="isPending" :error="error" what="The join tokens">
    <p v-if="!data?.items.length" class="text-soft">
      No token yet. Make one, and paste the line that it gives on a host.
    </p>
    <table v-else class="grid-table">
      <thead>
        <tr>
          <th>Token</th>
          <th>State</th>
          <th class="!text-right">Used</th>
          <th>Good until</th>
          <th>For</th>
          <th>Labels</th>
          <th>Made by</th>
          <th><span class="sr-only">Actions</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="t in data.items" :key="t.id">
          <td class="machine">{{ t.id }}</td>
          <td :class="t.state === 'valid' ? 'text-healthy' : 'text-soft'">
            <span aria-hidden="true">{{ mark[t.state] }}</span> {{ t.state }}
          </td>
          <td class="num">{{ t.uses ? `${t.used} of ${t.uses}` : t.used }}</td>
          <td class="whitespace-nowrap">{{ moment(t.expiresAt) }}</td>
          <td :class="{ machine: t.host }">{{ forWhom(t) }}</td>
          <td><Labels :of="t.labels" /></td>
          <td>{{ t.createdBy }}</td>
          <td class="text-right">
            <button
              v-if="t.state === 'valid'"
              class="px-1.5 text-accent hover:underline"
              @click="revoke(t.id)"
            >
              Revoke
            </button>
          </td>
        </tr>
      </tbody>
    </table>
  </Answer>
  <Sheet v-model="asking" title="New join token" :error="failed" wide>
    <div v-if="made" class="mt-4">
      <p class="font-medium">Paste this line on the host</p>
      <p class="mb-2 text-soft">
        It fetches the agent from here, checks it, installs it as a systemd unit and starts it. With
        <span class="machine">--print</span> at its end it only tells what it would do. It is shown
        only now, and good until {{ moment(made.expiresAt) }}.
      </p>
      <CopyText :text="made.command" label="the line" />
      <template v-if="made.agent !== made.command"
        ><p class="mt-4 mb-2 font-medium">Where an agent is installed already</p>
        <CopyText :text="made.agent" label="the command"
      /></template>
    </div>
    <form v-else id="token" class="mt-4 space-y-3" @submit.prevent="create">
      <div>
        <label for="token-labels" class="block font-medium"
          >Labels of the hosts that join by it</label
        ><input
          id="token-labels"
          v-model="labels"
          class="field machine mt-1 w-full"
          placeholder="site=northpier role=gate"
        />
      </div>
      <fieldset>
        <legend class="font-medium">Which hosts</legend>
        <label class="mt-1 flex items-center gap-2"
          ><input v-model="which" type="radio" value="new" /> New ones, whose names the desk does
          not know</label
        >
        <label class="mt-1 flex items-center gap-2"
          ><input v-model="which" type="radio" value="listed" /> New ones, and listed ones that have
          all these labels</label
        >
        <label class="mt-1 flex items-center gap-2"
          ><input v-model="which" type="radio" value="one" /> One host, also one that has joined
          before or was retired</label
        >
        <input
          v-if="which === 'one'"
          v-model="host"
          class="field machine mt-2 w-full"
          aria-label="Name of the host"
          placeholder="gate-northpier-1"
        />
      </fieldset>
      <div class="flex gap-6">
        <div v-if="which !== 'one'">
          <label for="token-uses" class="block font-medium">How many hosts</label
          ><input
            id="token-uses"
            v-model.number="uses"
            type="number"
            min="0"
            class="field mt-1 w-32"
            aria-describedby="token-uses-help"
          />
          <p id="token-uses-help" class="mt-1 text-table text-soft">0 is any number.</p>
        </div>
        <div>
          <label for="token-lasts" class="block font-medium">For how long</label
          ><input id="token-lasts" v-model="lasts" class="field machine mt-1 w-32" />
        </div>
      </div>
    </form>
    <template #actions
      ><button class="button quiet" @click="asking = false">{{ made ? 'Done' : 'Not now' }}</button
      ><button v-if="!made" form="token" class="button" :disabled="busy">Make it</button></template
    >
  </Sheet>
</template>
