<script setup lang="ts">
import type { Schemas } from '../api/client'
import { plural } from '../composables/format'
import YamlText from './YamlText.vue'

/** A definition as it stands, who has it, and what uses it. */
defineProps<{ d: Schemas['Definition']; kind: string }>()
</script>

<template>
  <div class="grid gap-8 lg:grid-cols-[1fr_20rem]">
    <div class="min-w-0">
      <p class="machine mb-2 text-soft">
        {{ d.file }}, line {{ d.line }} · meaning last changed in revision {{ d.changed }}
      </p>
      <YamlText :text="d.text" :from="d.line" />
    </div>
    <aside class="space-y-6">
      <section v-if="['source', 'settings', 'agents'].includes(kind)">
        <h2 class="mb-2 font-semibold">{{ plural(d.hosts.length, 'host') }}</h2>
        <ul class="max-h-96 overflow-y-auto">
          <li v-for="h in d.hosts" :key="h">
            <router-link :to="`/hosts/${h}`" class="link machine">{{ h }}</router-link>
          </li>
        </ul>
      </section>
      <section v-if="d.usedBy.length || ['format', 'destination', 'mask'].includes(kind)">
        <h2 class="mb-2 font-semibold">Used by</h2>
        <ul>
          <li v-for="s in d.usedBy" :key="s">
            <router-link :to="`/catalogue/${s.replace(' ', '/')}`" class="link machine">{{
              s
            }}</router-link>
          </li>
        </ul>
        <p v-if="!d.usedBy.length" class="text-soft">Nothing uses it.</p>
      </section>
    </aside>
  </div>
</template>
