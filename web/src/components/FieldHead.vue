<script setup lang="ts">
import { XMarkIcon } from '@heroicons/vue/20/solid'

/** The name of a place of a form, with a button that takes it away. */
defineProps<{ label: string; removable?: boolean }>()
const emit = defineEmits<{ remove: [] }>()
</script>

<template>
  {{ label }}
  <button
    v-if="removable"
    type="button"
    class="text-soft hover:text-failing"
    :aria-label="`Remove ${label}`"
    @click="emit('remove')"
  >
    <XMarkIcon class="size-4" />
  </button>
</template>
