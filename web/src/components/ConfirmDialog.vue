<script setup lang="ts">
import { Dialog, DialogDescription, DialogPanel, DialogTitle } from '@headlessui/vue'
import { ref } from 'vue'

/** Says what will happen, and does it when that is wanted. */
const props = defineProps<{
  title: string
  words: string
  verb: string
  act: () => Promise<void>
}>()
const emit = defineEmits<{ close: [] }>()
const error = ref('')
const doing = ref(false)

async function go() {
  error.value = ''
  doing.value = true
  try {
    await props.act()
    emit('close')
  } catch (e) {
    error.value = e instanceof Error ? e.message : String(e)
  } finally {
    doing.value = false
  }
}
</script>

<template>
  <Dialog open class="relative z-30" @close="emit('close')">
    <div class="fixed inset-0 bg-ink/40" aria-hidden="true" />
    <div class="fixed inset-0 flex items-center justify-center p-4">
      <DialogPanel class="w-full max-w-lg rounded-lg border border-line bg-sheet p-6">
        <DialogTitle class="text-section font-semibold">{{ title }}</DialogTitle>
        <DialogDescription class="mt-2 text-soft">{{ words }}</DialogDescription>
        <p
          v-if="error"
          role="alert"
          class="mt-3 rounded-md border border-failing px-3 py-2 text-failing"
        >
          {{ error }}
        </p>
        <div class="mt-4 flex justify-end gap-2">
          <button type="button" class="button quiet" @click="emit('close')">Not now</button>
          <button type="button" class="button" :disabled="doing" @click="go">{{ verb }}</button>
        </div>
      </DialogPanel>
    </div>
  </Dialog>
</template>
