<script setup lang="ts">
import type { Schemas } from '../api/client'
import { plural } from '../composables/format'

/** Which hosts a text is for, as it stands. */
defineProps<{ tried?: Schemas['Tried'] }>()
</script>

<template>
  <div v-if="tried">
    <p class="font-medium">
      {{
        ['source', 'settings', 'agents'].includes(tried.kind)
          ? `It is for ${plural(tried.chosen, 'host')}`
          : 'It chooses no hosts itself'
      }}
    </p>
    <p class="mb-3 text-soft">
      {{
        tried.changes
          ? `${plural(tried.changes, 'host')} would run something else than now.`
          : 'No host would run something else than now.'
      }}
    </p>
    <p v-if="tried.usedBy?.length" class="mb-3">
      Used by
      <router-link
        v-for="u in tried.usedBy"
        :key="u"
        :to="`/catalogue/${u.replace(' ', '/')}`"
        class="link machine mr-3"
        >{{ u }}</router-link
      >
    </p>
    <ul class="max-h-[55vh] columns-2 overflow-y-auto">
      <li v-for="h in tried.hosts" :key="h">
        <router-link :to="`/hosts/${h}`" class="link machine break-all">{{ h }}</router-link>
      </li>
    </ul>
    <p v-if="tried.chosen > tried.hosts.length" class="mt-2 text-soft">
      and {{ tried.chosen - tried.hosts.length }} more
    </p>
  </div>
</template>
