<script setup lang="ts">
import { onBeforeUnmount, ref } from 'vue'
import type { Schemas } from '../api/client'
import { ago, plural, sentence } from '../composables/format'
import StateMark from './StateMark.vue'

/** What is wrong, a line a cause, with the hosts behind it one step away. What is new since the page was left last says so. */
defineProps<{ causes: Schemas['Cause'][]; more: number; quiet: boolean }>()
const key = 'causes-seen'
const seen = ref(localStorage.getItem(key) ?? '')
const isNew = (c: Schemas['Cause']) => !!seen.value && !!c.since && c.since > seen.value
onBeforeUnmount(() => localStorage.setItem(key, new Date().toISOString()))
const open = ref('')
const to = (c: Schemas['Cause']) =>
  c.kind === 'destination'
    ? `/catalogue/destination/${c.name}`
    : c.kind === 'source' && c.name
      ? `/catalogue/source/${c.name}/numbers`
      : c.hosts === 1
        ? `/hosts/${c.some[0]}`
        : '/hosts?state=' + c.state
</script>

<template>
  <p v-if="!causes.length && !quiet" class="text-soft">
    Nothing. Every host that has joined is in order.
  </p>
  <ul v-else-if="causes.length" class="border-t border-line">
    <li
      v-for="c in causes"
      :key="c.id"
      class="grid items-baseline gap-x-6 gap-y-1 border-b border-line py-2.5 md:grid-cols-[7rem_1fr_14rem]"
    >
      <StateMark :state="c.state" />
      <div class="min-w-0">
        <p class="break-words">
          <router-link v-if="c.name" :to="to(c)" class="link machine">{{
            c.name
          }}</router-link><router-link v-else-if="c.hosts === 1" :to="to(c)" class="link machine">{{
            c.some[0]
          }}</router-link
          ><template v-if="c.name || c.hosts === 1">: </template
          >{{
            c.name
              ? c.words.replace(`${c.name}: `, '')
              : c.hosts === 1
                ? c.words
                : sentence(c.words)
          }}<span v-if="c.since" class="text-soft">
            · since {{ ago(c.since).replace(' ago', '') }}</span
          ><span v-if="isNew(c)" class="ml-2 rounded border border-ink px-1 text-table">new</span>
        </p>
        <p v-if="c.todo" class="text-soft">{{ sentence(c.todo) }}</p>
        <p v-if="open === c.id" class="machine mt-1 break-words">
          <template v-for="(h, i) in c.some" :key="h"
            ><template v-if="i">, </template
            ><router-link :to="`/hosts/${h}`" class="link">{{ h }}</router-link></template
          ><template v-if="c.hosts > c.some.length">
            and {{ c.hosts - c.some.length }} more</template
          >
        </p>
      </div>
      <p class="text-table text-soft md:text-right">
        <button
          v-if="c.hosts > 1"
          type="button"
          class="link"
          :aria-expanded="open === c.id"
          @click="open = open === c.id ? '' : c.id"
        >
          {{ c.where }}</button><template v-else-if="c.name && c.hosts === 1"
          ><router-link :to="`/hosts/${c.some[0]}`" class="link machine">{{
            c.some[0]
          }}</router-link></template
        ><br v-if="c.hosts && c.kind !== 'source' && c.sources.length" /><span
          v-if="c.kind !== 'source' && c.sources.length"
          >{{ plural(c.sources.length, 'source') }}</span
        >
      </p>
    </li>
  </ul>
  <p v-if="more" class="mt-2">
    <router-link to="/hosts?state=failing" class="link"
      >and {{ plural(more, 'more cause') }}</router-link
    >
  </p>
</template>
