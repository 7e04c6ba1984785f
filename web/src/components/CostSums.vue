<script setup lang="ts">
import type { Schemas } from '../api/client'
import { bytes } from '../composables/format'

/** What destinations get, or labels send, in a day, against their budgets. */
defineProps<{ title: string; list: Schemas['CostSum'][]; link?: string }>()
const size = (n: number) => bytes(Math.round(n))
const part = (s: Schemas['CostSum']) => Math.min(100, (100 * (s.then ?? s.sent)) / (s.budget || 1))
</script>

<template>
  <section>
    <h2 class="mb-3 text-section font-semibold">{{ title }}</h2>
    <ul class="border-t border-line">
      <li v-for="s in list" :key="s.name" class="border-b border-line py-2">
        <p class="flex flex-wrap items-baseline justify-between gap-x-4">
          <router-link v-if="link" class="link machine" :to="link + s.name">{{
            s.name
          }}</router-link>
          <span v-else :class="s.name ? 'machine' : 'text-soft'">{{ s.name || 'without it' }}</span>
          <span class="text-table"
            ><span v-if="s.money && s.currency" class="mr-3"
              >{{ s.money.toFixed(2) }} {{ s.currency }}</span
            >{{ size(s.sent)
            }}<template v-if="s.then !== undefined"> → {{ size(s.then) }} by the draft</template
            ><template v-if="s.budget"
              >,
              <span :class="{ 'text-degraded': s.exceeds }"
                >{{ s.exceeds ? '▲ over' : 'of' }} {{ size(s.budget) }}</span
              ></template
            ></span
          >
        </p>
        <div
          v-if="s.budget"
          class="mt-1 h-1.5 rounded bg-sunk"
          role="img"
          :aria-label="`${Math.round(part(s))} % of the budget`"
        >
          <div
            class="h-full rounded"
            :class="s.exceeds ? 'bg-degraded' : 'bg-accent'"
            :style="{ width: `${part(s)}%` }"
          />
        </div>
      </li>
    </ul>
  </section>
</template>
