<script setup lang="ts">
import { ref } from 'vue'
import { client, take, type Schemas } from '../api/client'
import { useDoing } from '../composables/doing'
import { moment, sentence } from '../composables/format'

/** Where a number changes: since when, on which hosts, and what came shortly before. */
const props = defineProps<{
  numbers: string[]
  query: {
    source?: string
    destination?: string
    hosts?: string
    from?: string
    to?: string
    since?: string
  }
}>()
const number = ref('')
const found = ref<Schemas['Explained']>()
const { error, doing } = useDoing()
const explain = () =>
  doing(async () => {
    const query = { ...props.query, number: number.value || props.numbers[0]! }
    found.value = await take(client.GET('/numbers-explained', { params: { query } }))
  })
</script>

<template>
  <section>
    <h2 class="mb-2 text-section font-semibold">Where does it change?</h2>
    <form class="flex flex-wrap gap-3" @submit.prevent="explain">
      <select v-model="number" class="field" aria-label="Number">
        <option v-for="(n, i) in numbers" :key="n" :value="i ? n : ''">{{ n }}</option>
      </select>
      <button class="button quiet">Find it</button>
    </form>
    <p v-if="error" role="alert" class="mt-3 text-failing">{{ error }}</p>
    <div v-if="found" class="mt-3" role="status">
      <p>{{ sentence(found.words) }}</p>
      <p v-if="found.hosts.length" class="machine mt-1 break-words">
        <template v-for="(h, i) in found.hosts.slice(0, 20)" :key="h"
          ><template v-if="i">, </template
          ><router-link :to="`/hosts/${h}/numbers`" class="link">{{ h }}</router-link></template
        ><template v-if="found.hosts.length > 20"> and {{ found.hosts.length - 20 }} more</template>
      </p>
      <ul v-if="found.marks.length" class="mt-2">
        <li
          v-for="(m, i) in found.marks"
          :key="i"
          class="grid gap-x-6 py-1 md:grid-cols-[16rem_1fr]"
        >
          <span class="machine text-soft">{{ moment(m.at) }}</span><span>{{ m.words }}</span>
        </li>
      </ul>
    </div>
  </section>
</template>
