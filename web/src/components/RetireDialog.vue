<script setup lang="ts">
import { Dialog, DialogDescription, DialogPanel, DialogTitle } from '@headlessui/vue'
import { ref } from 'vue'
import { client, take } from '../api/client'

/** Asks once more, and takes a host out of the fleet. */
const props = defineProps<{ host: string }>()
const shown = defineModel<boolean>({ required: true })
const error = ref('')

async function retire() {
  error.value = ''
  try {
    await take(client.POST('/hosts/{host}/retire', { params: { path: { host: props.host } } }))
    shown.value = false
  } catch (e) {
    error.value = e instanceof Error ? e.message : String(e)
  }
}
</script>

<template>
  <Dialog :open="shown" class="relative z-30" @close="shown = false">
    <div class="fixed inset-0 bg-ink/40" aria-hidden="true" />
    <div class="fixed inset-0 flex items-center justify-center p-4">
      <DialogPanel class="w-full max-w-lg rounded-lg border border-line bg-sheet p-6">
        <DialogTitle class="text-section font-semibold"
          >Retire <span class="font-mono">{{ host }}</span></DialogTitle
        >
        <DialogDescription class="mt-2 text-soft"
          >Its agent is let in no more, and it is in no list and no rollout. Its history stays, and
          a join token that is made for it brings it back under its name.</DialogDescription
        >
        <p
          v-if="error"
          role="alert"
          class="mt-3 rounded-md border border-failing px-3 py-2 text-failing"
        >
          {{ error }}
        </p>
        <div class="mt-4 flex justify-end gap-2">
          <button type="button" class="button quiet" @click="shown = false">Not now</button>
          <button type="button" class="button" @click="retire">Retire</button>
        </div>
      </DialogPanel>
    </div>
  </Dialog>
</template>
