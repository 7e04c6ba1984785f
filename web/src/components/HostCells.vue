<script setup lang="ts">
import type { Schemas } from '../api/client'
import { ago, number, sentence } from '../composables/format'
import Labels from './Labels.vue'
import StateMark from './StateMark.vue'

/** The cells of a host in the list of hosts. */
defineProps<{ host: Schemas['HostSummary'] }>()
</script>

<template>
  <td><StateMark :state="host.verdict.state" /></td>
  <td class="machine font-medium">
    {{ host.name }}
    <p
      v-if="host.verdict.state !== 'healthy'"
      class="max-w-[22rem] truncate font-sans font-normal text-soft"
      :title="host.verdict.reason"
    >
      {{ sentence(host.verdict.reason) }}
    </p>
  </td>
  <td class="num">
    {{ host.revision || '–'
    }}<span v-if="host.pending" class="ml-1 text-waiting" :title="`pending: ${host.pending}`"
      >+{{ host.pending }}</span
    ><span v-if="host.pinned" class="ml-1 text-soft" :title="`pinned by rollout ${host.pinned}`"
      >pinned</span
    >
  </td>
  <td class="num">{{ number(host.read) }}</td>
  <td class="num">{{ number(host.acknowledged) }}</td>
  <td class="whitespace-nowrap">{{ ago(host.lastRecord) }}</td>
  <td class="min-w-[17rem]"><Labels :of="host.labels" /></td>
</template>
