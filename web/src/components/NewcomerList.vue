<script setup lang="ts">
import { ref } from 'vue'
import { client, queryClient, take, type Schemas } from '../api/client'
import { useNewcomers } from '../api/queries'
import { useDoing } from '../composables/doing'
import { ago, sentence } from '../composables/format'
import Sheet from './Sheet.vue'

/** Agents that carry the identity of another host; each waits for a decision. */
const { data } = useNewcomers()
const { busy, error, doing } = useDoing()
const asking = ref(false)
const chosen = ref<Schemas['Newcomer']>()
const name = ref('')
const ask = (n: Schemas['Newcomer']) => {
  chosen.value = n
  name.value = n.name && n.name !== n.host ? n.name : ''
  error.value = ''
  asking.value = true
}
const fresh = () => queryClient.invalidateQueries({ queryKey: ['hosts'] })
const approve = () =>
  doing(async () => {
    await take(
      client.POST('/newcomers/{id}/approve', {
        params: { path: { id: chosen.value!.id } },
        body: { name: name.value },
      }),
    )
    asking.value = false
    await fresh()
  })
const deny = (id: string) =>
  doing(async () => {
    await take(client.DELETE('/newcomers/{id}', { params: { path: { id } } }))
    await fresh()
  })
</script>

<template>
  <section
    v-if="data?.items.length"
    class="mb-6 rounded-md border border-waiting p-4"
    aria-label="Newcomers"
  >
    <h2 class="font-semibold text-waiting">
      <span aria-hidden="true">◌</span>
      {{ data.items.length === 1 ? 'An agent waits' : `${data.items.length} agents wait` }} for
      approval
    </h2>
    <p class="mb-2 text-soft">
      A machine was copied, or another one asks for the name of a host. Until you decide it collects
      nothing, and what was copied is delivered by nobody.
    </p>
    <p v-if="error && !asking" role="alert" class="text-failing">{{ error }}</p>
    <ul>
      <li
        v-for="n in data.items"
        :key="n.id"
        class="flex flex-wrap items-baseline justify-between gap-x-6 border-t border-line py-2"
      >
        <span
          ><span class="machine font-medium">{{ n.name || 'no name' }}</span> from
          <span class="machine">{{ n.origin || 'an unknown address' }}</span>
          {{ n.copy ? 'carries the identity of' : 'asks for the name of' }}
          <router-link class="link machine" :to="`/hosts/${n.host}`">{{ n.host }}</router-link>,
          since {{ ago(n.since) }}<span class="block text-soft">{{ sentence(n.why) }}</span></span
        >
        <span class="flex gap-2"
          ><button class="button quiet !h-8" @click="deny(n.id)">Turn away</button
          ><button class="button !h-8" @click="ask(n)">Let it join…</button></span
        >
      </li>
    </ul>
    <Sheet
      v-model="asking"
      title="Let it join"
      about="It becomes a host of its own, with a credential of its own."
      :error="error"
    >
      <form id="approve" class="mt-4" @submit.prevent="approve">
        <label for="newcomer-name" class="block font-medium">Name</label
        ><input
          id="newcomer-name"
          v-model="name"
          class="field machine mt-1 w-full"
          required
          maxlength="253"
        />
        <p class="mt-1 text-table text-soft">
          The name of another host can be taken while that one is away: the newcomer then is that
          host.
        </p>
      </form>
      <template #actions
        ><button class="button quiet" @click="asking = false">Not now</button
        ><button form="approve" class="button" :disabled="busy || !name">
          Let it join
        </button></template
      >
    </Sheet>
  </section>
</template>
