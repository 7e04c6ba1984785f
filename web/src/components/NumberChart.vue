<script setup lang="ts">
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'
import type uPlot from 'uplot'
import type { Schemas } from '../api/client'
import { drawChart } from '../composables/chart'

/** Lines over time, with what changed drawn on the same time line. Dragging chooses a span. */
const props = defineProps<{
  numbers: Schemas['NumbersOverTime']
  lines: Schemas['NumberLine'][]
  label: string
  unit: 'count' | 'bytes' | 'seconds'
}>()
const emit = defineEmits<{ span: [from: number, to: number] }>()
const box = ref<HTMLElement>()
let chart: uPlot | undefined
let observer: ResizeObserver | undefined

async function draw() {
  chart?.destroy()
  if (!box.value) return
  const made = await drawChart(box.value, props, (from, to) => emit('span', from, to))
  if (!box.value) return made.destroy()
  chart = made
}
onMounted(() => {
  observer = new ResizeObserver(() => {
    if (chart && box.value) chart.setSize({ width: box.value.clientWidth, height: chart.height })
  })
  observer.observe(box.value!)
  void draw()
})
watch(() => [props.numbers, props.lines], draw)
onBeforeUnmount(() => {
  observer?.disconnect()
  chart?.destroy()
})
</script>

<template>
  <figure class="min-w-0">
    <figcaption class="mb-1 font-medium">{{ label }}</figcaption>
    <div ref="box" class="chart" role="img" :aria-label="label" />
  </figure>
</template>
