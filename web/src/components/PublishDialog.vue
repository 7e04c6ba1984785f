<script setup lang="ts">
import { Dialog, DialogDescription, DialogPanel, DialogTitle } from '@headlessui/vue'
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { client, take } from '../api/client'
import { plural } from '../composables/format'

/** Asks why, and publishes against the revision that was looked at. */
const props = defineProps<{ draft: number; head?: number; hosts: number }>()
const shown = defineModel<boolean>({ required: true })
const router = useRouter()
const message = ref('')
const error = ref('')
const busy = ref(false)

async function publish() {
  busy.value = true
  error.value = ''
  try {
    await take(
      client.POST('/drafts/{draft}/publish', {
        params: { path: { draft: props.draft } },
        body: { message: message.value, head: props.head },
      }),
    )
    shown.value = false
    await router.push('/rollouts')
  } catch (e) {
    error.value = e instanceof Error ? e.message : String(e)
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <Dialog :open="shown" class="relative z-30" @close="shown = false">
    <div class="fixed inset-0 bg-ink/40" aria-hidden="true" />
    <div class="fixed inset-0 flex items-center justify-center p-4">
      <DialogPanel class="w-full max-w-lg rounded-lg border border-line bg-sheet p-6">
        <DialogTitle class="text-section font-semibold">Publish draft {{ draft }}</DialogTitle>
        <DialogDescription class="mt-2 text-soft"
          >It becomes the newest revision. No host runs it until it is rolled out;
          {{ plural(hosts, 'host') }} would change then.</DialogDescription
        >
        <form class="mt-4 flex flex-col gap-2" @submit.prevent="publish">
          <label for="why" class="font-medium">Why</label>
          <input
            id="why"
            v-model="message"
            class="field"
            maxlength="500"
            aria-describedby="why-help"
          />
          <p id="why-help" class="text-table text-soft">
            One sentence for whoever reads the list of revisions later.
          </p>
          <p
            v-if="error"
            role="alert"
            class="rounded-md border border-failing px-3 py-2 text-failing"
          >
            {{ error }}
          </p>
          <div class="mt-2 flex justify-end gap-2">
            <button type="button" class="button quiet" @click="shown = false">Not now</button>
            <button class="button" :disabled="busy">Publish</button>
          </div>
        </form>
      </DialogPanel>
    </div>
  </Dialog>
</template>
