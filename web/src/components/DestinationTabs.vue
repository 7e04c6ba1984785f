<script setup lang="ts">
import { useDestination } from '../api/queries'
import Answer from './Answer.vue'
import BookTable from './BookTable.vue'
import DestinationHosts from './DestinationHosts.vue'
import DestinationRejects from './DestinationRejects.vue'
import NumberCharts from './NumberCharts.vue'
import Tabs from './Tabs.vue'

/** What is known of a destination beside its definition, which stands in the slot. */
const props = defineProps<{ name: string; tab?: string }>()
const current = () => props.tab || 'hosts'
const { data, isPending, error } = useDestination(() => props.name, true)
const to = (tab: string) => `/catalogue/destination/${props.name}/${tab}`
</script>

<template>
  <Tabs
    :tabs="[
      { name: 'Hosts', to: to('hosts'), count: data?.state.hosts },
      { name: 'Rejects', to: to('rejects'), count: data?.state.rejects },
      { name: 'Numbers', to: to('numbers') },
      { name: 'Books', to: to('books') },
      { name: 'Definition', to: to('definition') },
    ]"
    :current="current()"
  />
  <slot v-if="current() === 'definition'" />
  <DestinationRejects v-else-if="current() === 'rejects'" :key="name" :destination="name" />
  <NumberCharts v-else-if="current() === 'numbers'" :key="name" :destination="name" />
  <BookTable v-else-if="current() === 'books'" :destination="name" />
  <Answer v-else :pending="isPending" :error="error" :what="`The hosts of ${name}`">
    <DestinationHosts v-if="data" :detail="data" />
  </Answer>
</template>
