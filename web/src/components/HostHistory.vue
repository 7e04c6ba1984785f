<script setup lang="ts">
import { ref } from 'vue'
import { client, take, type Schemas } from '../api/client'
import { useHostHistory } from '../api/queries'
import { moment } from '../composables/format'
import Answer from './Answer.vue'
import YamlText from './YamlText.vue'

/** What a host was to run, newest first, and the whole config of a moment when it is asked for. */
const props = defineProps<{ host: string }>()
const { data, isPending, error } = useHostHistory(() => props.host)
const then = ref<Schemas['HostMoment']>()
const failure = ref('')
const pairs = (m?: Record<string, string>) =>
  m
    ? Object.entries(m)
        .map(([k, v]) => `${k}=${v}`)
        .join('  ') || 'none'
    : 'not written down'

async function look(m: Schemas['HostMoment']) {
  failure.value = ''
  if (then.value?.at === m.at) {
    then.value = undefined
    return
  }
  try {
    const l = await take(
      client.GET('/hosts/{host}/history', {
        params: { path: { host: props.host }, query: { at: m.at } },
      }),
    )
    then.value = l.items[0]
  } catch (e) {
    failure.value = e instanceof Error ? e.message : String(e)
  }
}
</script>

<template>
  <Answer :pending="isPending" :error="error" what="The history">
    <p v-if="!data?.items.length" class="text-soft">This host was never given a config.</p>
    <table v-else class="grid-table">
      <thead>
        <tr>
          <th>From</th>
          <th class="!text-right">Revision</th>
          <th>By</th>
          <th>What differs</th>
          <th></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="m in data.items" :key="m.at">
          <td class="whitespace-nowrap">{{ moment(m.at) }}</td>
          <td class="num">{{ m.revision }}</td>
          <td>
            <router-link v-if="m.rollout" :to="`/rollouts/${m.rollout}`" class="link"
              >rollout {{ m.rollout }}</router-link
            ><template v-else>joined</template
            ><span v-if="m.who" class="text-soft"> ({{ m.who }})</span>
          </td>
          <td>{{ m.causes?.join(', ') }}</td>
          <td>
            <button type="button" class="link" :aria-expanded="then?.at === m.at" @click="look(m)">
              Show
            </button>
          </td>
        </tr>
      </tbody>
    </table>
    <p v-if="failure" role="alert" class="mt-4 text-failing">{{ failure }}</p>
    <section v-if="then" class="mt-6">
      <h3 class="mb-2 font-medium">From {{ moment(then.at) }}, revision {{ then.revision }}</h3>
      <p class="mb-1">
        Labels <span class="machine">{{ pairs(then.labels) }}</span>
      </p>
      <p class="mb-3">
        Settings <span class="machine">{{ pairs(then.settings) }}</span>
      </p>
      <p v-if="then.note" class="mb-3 text-degraded">{{ then.note }}</p>
      <YamlText v-if="then.config" :text="then.config" />
    </section>
  </Answer>
</template>
