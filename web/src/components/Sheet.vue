<script setup lang="ts">
import { Dialog, DialogDescription, DialogPanel, DialogTitle } from '@headlessui/vue'

/** A sheet over the page that asks for something. */
const shown = defineModel<boolean>({ required: true })
defineProps<{ title: string; about?: string; error?: string; wide?: boolean }>()
</script>

<template>
  <Dialog :open="shown" class="relative z-30" @close="shown = false">
    <div class="fixed inset-0 bg-ink/40" aria-hidden="true" />
    <div class="fixed inset-0 flex items-center justify-center p-4">
      <DialogPanel
        class="flex max-h-full w-full flex-col overflow-y-auto rounded-lg border border-line bg-sheet p-6"
        :class="wide ? 'max-w-3xl' : 'max-w-lg'"
      >
        <DialogTitle class="text-section font-semibold">{{ title }}</DialogTitle>
        <DialogDescription v-if="about" class="mt-2 text-soft">{{ about }}</DialogDescription>
        <slot />
        <p
          v-if="error"
          role="alert"
          class="mt-3 rounded-md border border-failing px-3 py-2 text-failing"
        >
          {{ error }}
        </p>
        <div class="mt-4 flex justify-end gap-2"><slot name="actions" /></div>
      </DialogPanel>
    </div>
  </Dialog>
</template>
