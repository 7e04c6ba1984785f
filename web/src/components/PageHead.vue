<script setup lang="ts">
/** The first lines of a page: where it is, its title, and what can be done. */
defineProps<{ title: string; back?: string; backTo?: string; machine?: boolean }>()
</script>

<template>
  <header class="mb-6 flex flex-wrap items-end justify-between gap-4">
    <div class="min-w-0">
      <router-link v-if="back" :to="backTo ?? '/'" class="link text-table">{{ back }}</router-link>
      <h1 class="text-page font-semibold break-words" :class="{ 'font-mono text-[22px]': machine }">
        {{ title }}
      </h1>
      <slot />
    </div>
    <div class="flex gap-2"><slot name="actions" /></div>
  </header>
</template>
