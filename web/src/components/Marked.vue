<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { pieces } from '../composables/marks'

/** A text in which masked parts are blocks with the name of their mask; with reveal they stand in the clear, marked. */
const props = defineProps<{ text: string; marks: Schemas['LogMark'][]; reveal?: boolean }>()
const parts = computed(() => pieces(props.text, props.marks))
</script>

<template>
  <span class="machine break-words whitespace-pre-wrap"
    ><template v-for="(p, i) in parts" :key="i"
      ><span
        v-if="p.mask"
        class="masked"
        :class="{ bare: reveal }"
        :title="`masked by ${p.mask}`"
        :data-from="p.from"
        :data-to="p.to"
        >{{ reveal ? p.text : p.mask }}</span
      ><span v-else :data-from="p.from" :data-to="p.to">{{ p.text }}</span></template
    ></span
  >
</template>
