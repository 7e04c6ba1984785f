<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { reactive } from 'vue'
import { client, queryClient, take } from '../api/client'
import { useDoing } from '../composables/doing'
import { moment } from '../composables/format'
import Labeled from './Labeled.vue'

/** Hosts of which nothing is told for a while. */
const { data } = useQuery({
  queryKey: ['notices', 'maintenance'],
  queryFn: () => take(client.GET('/maintenance')),
})
const { error, doing } = useDoing()
const form = reactive({ hosts: '', for: '2h', word: '' })
const fresh = () => queryClient.invalidateQueries({ queryKey: ['notices'] })
const start = () =>
  doing(async () => {
    const body = { hosts: form.hosts, for: form.for, word: form.word.trim() || undefined }
    await take(client.POST('/maintenance', { body }))
    form.hosts = form.word = ''
    await fresh()
  })
const end = (id: number) =>
  doing(async () => {
    await take(client.DELETE('/maintenance/{id}', { params: { path: { id } } }))
    await fresh()
  })
</script>

<template>
  <section>
    <h2 class="mb-3 text-section font-semibold">Maintenance</h2>
    <p v-if="error" role="alert" class="mb-4 text-failing">{{ error }}</p>
    <ul v-if="data?.items.length" class="mb-6 border-t border-line">
      <li
        v-for="m in data.items"
        :key="m.id"
        class="flex flex-wrap items-baseline justify-between gap-x-6 border-b border-line py-2.5"
      >
        <span
          >Nothing is told of <code class="machine">{{ m.hosts }}</code> until
          {{ moment(m.until) }}, by {{ m.who
          }}<template v-if="m.word">: {{ m.word }}</template></span
        ><button class="button quiet !h-8" @click="end(m.id)">End it</button>
      </li>
    </ul>
    <form class="grid items-end gap-4 md:grid-cols-[1fr_8rem_1fr_auto]" @submit.prevent="start">
      <Labeled label="Hosts" hint="of which nothing is told"
        ><input
          v-model="form.hosts"
          required
          class="field machine w-full"
          placeholder="site=northpier"
      /></Labeled>
      <Labeled label="For" hint="such as 2h"
        ><input v-model="form.for" required class="field machine w-full"
      /></Labeled>
      <Labeled label="Word" hint="to others"
        ><input v-model="form.word" class="field w-full"
      /></Labeled>
      <button class="button mb-6 justify-self-start">Start</button>
    </form>
  </section>
</template>
