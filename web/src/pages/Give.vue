<script setup lang="ts">
import { ref } from 'vue'
import { useRoute } from 'vue-router'
import { client, take, type Schemas } from '../api/client'
import { useDoing } from '../composables/doing'
import { moment } from '../composables/format'

/** Where somebody with a link sets one secret, without signing in. */
const props = defineProps<{ secret: string }>()
const token = useRoute().hash.slice(1)
const value = ref('')
const done = ref<Schemas['Secret']>()
const { busy, error, doing } = useDoing()
const send = () =>
  doing(async () => {
    done.value = await take(
      client.PUT('/secrets/{secret}', {
        params: { path: { secret: props.secret } },
        body: { value: value.value },
        headers: { Authorization: `Bearer ${token}` },
      }),
    )
    value.value = ''
  })
</script>

<template>
  <main class="mx-auto max-w-lg px-6 py-24">
    <p class="mb-8 flex items-center gap-2 text-section font-semibold">
      <img src="/icon.svg" alt="" class="size-6" />Synaxis
    </p>
    <h1 class="text-page font-semibold">
      Set the secret <span class="machine !text-page">{{ secret }}</span>
    </h1>
    <div v-if="done" role="status" class="mt-6 rounded-md border border-line bg-sheet p-4">
      <p class="font-medium text-healthy">
        <span aria-hidden="true">●</span> It is set, as version {{ done.version }}
      </p>
      <p class="text-soft">Since {{ moment(done.setAt) }}. You can close this page.</p>
    </div>
    <p v-else-if="!token" class="mt-6 text-failing">
      The link is not whole: its part after # is missing. Ask for it again.
    </p>
    <form v-else class="mt-6 space-y-3" @submit.prevent="send">
      <label for="value" class="block font-medium">Value</label>
      <textarea
        id="value"
        v-model="value"
        rows="4"
        required
        class="field machine !h-auto w-full py-2 [-webkit-text-security:disc]"
        autocomplete="off"
        spellcheck="false"
        aria-describedby="value-help"
      />
      <p id="value-help" class="text-table text-soft">
        It is kept sealed and not shown again, to nobody. The link lets you do this and nothing
        else.
      </p>
      <p v-if="error" role="alert" class="rounded-md border border-failing px-3 py-2 text-failing">
        {{ error }}
      </p>
      <button class="button" :disabled="busy">Keep it</button>
    </form>
  </main>
</template>
