<script setup lang="ts">
import { computed } from 'vue'
import { useCoverage } from '../api/queries'
import Answer from './Answer.vue'
import { plural } from '../composables/format'

/** Every source against every guard, and where data would leave unmasked; those come first. */
const props = defineProps<{ draft?: number }>()
const { data, isPending, error } = useCoverage(() => props.draft ?? 0)
const open = computed(() => (data.value?.sources ?? []).filter((s) => !s.covered && !s.none).length)
const mark = (s: { covered: boolean; none: boolean }) =>
  s.covered
    ? { sign: '●', word: 'masked', tone: 'text-healthy' }
    : s.none
      ? { sign: '◌', word: 'needs none', tone: 'text-soft' }
      : { sign: '▲', word: 'not masked', tone: 'text-degraded' }
const masks = (s: { masks: string[]; own: string[] }) => [...new Set([...s.masks, ...s.own])]
const to = (name: string) =>
  props.draft ? `/changes/${props.draft}/edit/source/${name}` : `/catalogue/source/${name}`
</script>

<template>
  <Answer :pending="isPending" :error="error" what="What is masked">
    <p v-if="!data?.sources.length" class="text-soft">There are no sources yet.</p>
    <template v-else>
      <p class="mb-4" :class="open ? 'text-degraded' : 'text-healthy'">
        <span aria-hidden="true">{{ open ? '▲' : '●' }}</span>
        {{
          open
            ? `Nothing is masked in ${open} of ${plural(data.sources.length, 'source')}. They may have nothing to hide: try their lines in the workbench, and label them data: none.`
            : 'Every source is masked, or says that it needs none.'
        }}
      </p>
      <div class="overflow-x-auto">
        <table class="grid-table">
          <thead>
            <tr>
              <th>Source</th>
              <th v-for="g in data.guards" :key="g" class="machine">{{ g }}</th>
              <th>Its own steps</th>
              <th>Masks</th>
              <th>Goes to</th>
              <th />
            </tr>
          </thead>
          <tbody>
            <tr v-for="s in data.sources" :key="s.source">
              <td class="whitespace-nowrap">
                <span :class="mark(s).tone" aria-hidden="true">{{ mark(s).sign }}</span>
                <router-link :to="to(s.source)" class="link machine">{{
                  s.source
                }}</router-link><span class="sr-only">{{ mark(s).word }}</span>
              </td>
              <td v-for="g in data.guards" :key="g">
                <span v-if="s.guards[g]" class="text-healthy">covers it</span
                ><span v-else class="text-soft">–</span>
              </td>
              <td class="machine">{{ s.own.join(', ') || '–' }}</td>
              <td class="machine">
                {{
                  masks(s).join(', ') ||
                  (s.none ? 'needs none, as its label says' : 'nothing is masked')
                }}
              </td>
              <td class="machine">{{ s.to.join(', ') }}</td>
              <td class="whitespace-nowrap">
                <router-link
                  class="link text-table"
                  :to="{ path: '/workbench', query: { source: s.source, draft } }"
                  >Try it on lines</router-link
                >
              </td>
            </tr>
          </tbody>
        </table>
      </div>
    </template>
  </Answer>
</template>
