<script setup lang="ts">
import PageHead from '../components/PageHead.vue'
</script>

<template>
  <PageHead title="There is nothing here" />
  <p>
    No page has the address <span class="machine">{{ $route.path }}</span>.
    <router-link to="/" class="link">Go to the morning page</router-link>
  </p>
</template>
