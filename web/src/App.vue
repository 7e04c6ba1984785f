<script setup lang="ts">
import { useRoute } from 'vue-router'
import Frame from './components/Frame.vue'

const route = useRoute()
</script>

<template>
  <template v-if="route.matched.length">
    <router-view v-if="route.meta.bare" />
    <Frame v-else><router-view /></Frame>
  </template>
</template>
