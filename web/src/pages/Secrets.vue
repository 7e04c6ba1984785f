<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { client, queryClient, take, type Schemas } from '../api/client'
import { useSecrets } from '../api/queries'
import Answer from '../components/Answer.vue'
import GrantSheet from '../components/GrantSheet.vue'
import PageHead from '../components/PageHead.vue'
import SecretSheet from '../components/SecretSheet.vue'
import { useDoing } from '../composables/doing'
import { ago, moment, number } from '../composables/format'

const { data, isPending, error } = useSecrets()
const route = useRoute()
const router = useRouter()
const text = ref(typeof route.query.q === 'string' ? route.query.q : '')
watch(text, (q) => router.replace({ query: { ...route.query, q: q || undefined } }))
const rows = computed(() =>
  (data.value?.items ?? [])
    .filter((s) =>
      `${s.name} ${s.about} ${s.owner} ${s.usedBy.join(' ')}`
        .toLowerCase()
        .includes(text.value.toLowerCase()),
    )
    .sort((a, b) => Number(a.version > 0) - Number(b.version > 0)),
)
const missing = computed(() => (data.value?.items ?? []).filter((s) => s.version === 0).length)
const setting = ref(false)
const granting = ref(false)
const chosen = ref<Schemas['Secret']>()
const { error: failed, doing } = useDoing()
const set = (s?: Schemas['Secret']) => {
  chosen.value = s
  setting.value = true
}
const grant = (s: Schemas['Secret']) => {
  chosen.value = s
  granting.value = true
}
const fresh = () => queryClient.invalidateQueries({ queryKey: ['secrets'] })
const remove = (name: string) =>
  doing(async () => {
    await take(client.DELETE('/secrets/{secret}', { params: { path: { secret: name } } }))
    await fresh()
  })
const revoke = (secret: string, id: string) =>
  doing(async () => {
    await take(client.DELETE('/secrets/{secret}/grants/{id}', { params: { path: { secret, id } } }))
    await fresh()
  })
</script>

<template>
  <PageHead title="Secrets"
    ><p class="text-soft">
      Kept sealed and never shown again. Definitions refer to them as
      <span class="machine">${secret.NAME}</span>.
    </p>
    <template #actions
      ><button class="button" @click="set()">Set a secret…</button></template
    ></PageHead
  >
  <p
    v-if="failed"
    role="alert"
    class="mb-4 rounded-md border border-failing px-4 py-2 text-failing"
  >
    {{ failed }}
  </p>
  <Answer :pending="isPending" :error="error" what="The secrets">
    <p v-if="!data?.items.length" class="text-soft">
      No secret yet. Set one here, or with
      <span class="machine text-ink">synaxis secret set NAME &lt; file</span>.
    </p>
    <template v-else>
      <p v-if="missing" class="mb-4 font-medium text-failing">
        <span aria-hidden="true">✖</span> {{ missing }} that definitions ask for
        {{ missing === 1 ? 'is' : 'are' }} not set
      </p>
      <input
        v-model="text"
        type="search"
        class="field mb-4 w-80"
        placeholder="Name, owner or what uses it"
        aria-label="Filter secrets"
      />
      <table class="grid-table">
        <thead>
          <tr>
            <th>Secret</th>
            <th>Value</th>
            <th>Rotated</th>
            <th>Owner</th>
            <th class="!text-right">Hosts</th>
            <th>Used by</th>
            <th>May be set by</th>
            <th><span class="sr-only">Actions</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="s in rows" :key="s.name">
            <td class="min-w-40">
              <span class="machine font-medium">{{ s.name }}</span>
              <p v-if="s.about" class="max-w-[16rem] [overflow-wrap:anywhere] text-soft">
                {{ s.about }}
              </p>
            </td>
            <td class="whitespace-nowrap">
              <span v-if="s.version">version {{ s.version }}</span
              ><span v-else class="font-medium text-failing"
                ><span aria-hidden="true">✖</span> not set</span
              >
            </td>
            <td class="max-w-[12rem] [overflow-wrap:anywhere]" :title="moment(s.setAt)">
              {{ s.setAt ? `${ago(s.setAt)} by ${s.setBy}` : '–' }}
            </td>
            <td class="max-w-[12rem] [overflow-wrap:anywhere]">{{ s.owner || '–' }}</td>
            <td
              class="num"
              :title="
                s.onHosts.map((v) => `version ${v.version} runs on ${number(v.hosts)}`).join('\n')
              "
            >
              {{ number(s.hosts) }}
              <p
                v-for="v in s.onHosts"
                :key="v.version"
                class="whitespace-nowrap"
                :class="v.version === s.version ? 'text-soft' : 'text-waiting'"
              >
                v{{ v.version }} on {{ number(v.hosts) }}
              </p>
            </td>
            <td>
              <router-link
                v-for="u in s.usedBy"
                :key="u"
                class="link machine mr-3"
                :to="`/catalogue/${u.replace(' ', '/')}`"
                >{{ u }}</router-link><span v-if="!s.usedBy.length" class="text-soft">nothing</span>
            </td>
            <td>
              <p v-for="g in s.grants" :key="g.id" class="max-w-[16rem] [overflow-wrap:anywhere]">
                {{ g.who }}
                <button
                  class="link text-accent underline"
                  :aria-label="`End the grant of ${g.who}`"
                  @click="revoke(s.name, g.id)"
                >
                  end
                </button>
              </p>
            </td>
            <td class="whitespace-nowrap text-right">
              <button class="px-1.5 text-accent hover:underline" @click="set(s)">
                {{ s.version ? 'Rotate…' : 'Set…' }}
              </button>
              <button v-if="s.version" class="px-1.5 text-accent hover:underline" @click="grant(s)">
                Grant…
              </button>
              <button
                v-if="s.version && !s.usedBy.length"
                class="px-1.5 text-accent hover:underline"
                @click="remove(s.name)"
              >
                Remove
              </button>
            </td>
          </tr>
        </tbody>
      </table>
    </template>
  </Answer>
  <SecretSheet v-model="setting" :secret="chosen" />
  <GrantSheet v-if="chosen" v-model="granting" :secret="chosen.name" />
</template>
