<script setup lang="ts">
import type { Schemas } from '../api/client'
import MergeDiff from './MergeDiff.vue'

/** Definitions that something else changes too, both texts side by side. */
defineProps<{ conflicts: Schemas['DefinitionConflict'][]; draft: number }>()
const other = (s: Schemas['ConflictSide']) =>
  s.draft
    ? `Draft ${s.draft}, ${s.title}, by ${s.author}`
    : `Revision ${s.revision}, ${s.title}, by ${s.author}: published after this edit was made`
</script>

<template>
  <p v-if="!conflicts.length" class="text-soft">Nothing else changes what this draft changes.</p>
  <section v-for="c in conflicts" :key="c.kind + c.name + (c.other.draft ?? 0)" class="mb-8">
    <h3 class="mb-1 font-medium">
      <span class="machine">{{ c.kind }} {{ c.name }}</span>
    </h3>
    <p class="mb-2 text-soft">
      <template v-if="c.other.revision"
        >This draft cannot be published before you have decided: edit it, so that it holds what you
        want of both, or give the change up.</template
      >
      <template v-else
        >The one that is published first wins; the other then has to be looked at again.</template
      >
      <router-link class="link ml-2" :to="`/changes/${draft}/edit/${c.kind}/${c.name}`"
        >Edit it here</router-link
      >
      <router-link
        v-if="c.other.draft"
        class="link ml-3"
        :to="`/changes/${c.other.draft}/edit/${c.kind}/${c.name}`"
        >Look at the other</router-link
      >
    </p>
    <MergeDiff
      :before="c.other.text"
      :after="c.mine.text"
      :left="other(c.other)"
      :right="`This draft, ${c.mine.title}`"
    />
  </section>
</template>
