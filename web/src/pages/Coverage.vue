<script setup lang="ts">
import CoverageTable from '../components/CoverageTable.vue'
import PageHead from '../components/PageHead.vue'
</script>

<template>
  <PageHead title="What is masked" back="Catalogue" back-to="/catalogue"
    ><p class="text-soft">Every source of the newest revision against every guard.</p></PageHead
  >
  <CoverageTable />
</template>
