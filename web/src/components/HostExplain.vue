<script setup lang="ts">
import { computed, ref } from 'vue'
import { useCatalogue, useExplanation } from '../api/queries'
import { sentence } from '../composables/format'

/** Why a host does or does not get a source, line by line. */
const props = defineProps<{ host: string }>()
const { data: catalogue } = useCatalogue()
const source = ref('')
const sources = computed(() =>
  (catalogue.value?.items ?? []).filter((d) => d.kind === 'source').map((d) => d.name),
)
const { data: e, error } = useExplanation(() => props.host, source)
</script>

<template>
  <section v-if="sources.length" class="mt-8">
    <h2 class="mb-2 text-section font-semibold">Why does it get a source, or not?</h2>
    <label for="explain" class="sr-only">Source</label>
    <select id="explain" v-model="source" class="field machine">
      <option value="" disabled>Choose a source</option>
      <option v-for="s in sources" :key="s">{{ s }}</option>
    </select>
    <p v-if="error" role="alert" class="mt-3 text-failing">{{ error.message }}</p>
    <div v-else-if="e && source" class="mt-3">
      <p class="font-medium">
        It {{ e.gets ? 'gets' : 'does not get' }} <span class="machine">{{ e.source }}</span> by
        revision {{ e.revision }}
      </p>
      <ul class="mt-1">
        <li v-for="(l, i) in e.lines" :key="i" class="flex gap-3 py-0.5">
          <span
            :class="l.holds ? 'text-healthy' : 'text-failing'"
            class="w-4 shrink-0 font-medium"
            aria-hidden="true"
            >{{ l.holds ? '✓' : '✖' }}</span
          >
          <span class="sr-only">{{ l.holds ? 'holds:' : 'does not hold:' }}</span><span
            class="break-words"
            >{{ sentence(l.text) }}</span
          >
        </li>
      </ul>
    </div>
  </section>
</template>
