<script setup lang="ts">
import { ref } from 'vue'

/** A text to be copied whole. */
const props = defineProps<{ text: string; label: string }>()
const done = ref(false)
async function copy() {
  try {
    await navigator.clipboard.writeText(props.text)
    done.value = true
  } catch {
    done.value = false // not allowed here: the text can still be selected
  }
}
</script>

<template>
  <div class="relative rounded-md border border-line bg-sunk">
    <p class="machine p-3 pr-20 break-all select-all">{{ text }}</p>
    <button
      type="button"
      class="absolute top-1.5 right-1.5 rounded px-2 py-1 text-table text-accent hover:underline"
      :aria-label="`Copy ${label}`"
      @click="copy"
    >
      {{ done ? 'Copied' : 'Copy' }}
    </button>
  </div>
</template>
