<script setup lang="ts">
/** Names and values in two columns; values that a machine wrote are monospaced. */
defineProps<{
  items: { name: string; value?: string | null; machine?: boolean; title?: string }[]
}>()
</script>

<template>
  <dl class="grid gap-x-12 md:grid-cols-2">
    <div
      v-for="i in items.filter((x) => x.value)"
      :key="i.name"
      class="grid grid-cols-[9rem_1fr] gap-4 border-b border-line py-1.5"
    >
      <dt class="text-soft">{{ i.name }}</dt>
      <dd class="min-w-0 break-words" :class="{ machine: i.machine }" :title="i.title">
        {{ i.value }}
      </dd>
    </div>
  </dl>
</template>
