<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Schemas } from '../api/client'
import { useLanguage } from '../api/queries'
import { sentence } from '../composables/format'

/** Findings, grouped by the definition that they are about; errors first. */
const props = defineProps<{ findings: Schemas['Finding'][]; draft?: number }>()
const groups = computed(() => {
  const by = new Map<string, Schemas['Finding'][]>()
  for (const f of props.findings) {
    const key = f.kind ? `${f.kind} ${f.name}` : f.file
    by.set(key, [...(by.get(key) ?? []), f])
  }
  return [...by]
})
const { data: language } = useLanguage()
const asked = ref('')
const explained = (code: string) => language.value?.checks.find((c) => c.code === code)
const look = { error: 'text-failing', warning: 'text-degraded', note: 'text-soft' } as const
const mark = { error: '✖', warning: '▲', note: '·' } as const
</script>

<template>
  <section v-for="[name, list] in groups" :key="name" class="mb-6">
    <h3 class="mb-1 flex items-baseline gap-4">
      <span class="machine font-medium">{{ name }}</span><router-link
        v-if="draft && list[0]?.kind"
        class="link text-table"
        :to="`/changes/${draft}/edit/${name.replace(' ', '/')}`"
        >Edit</router-link
      >
    </h3>
    <ul class="border-t border-line">
      <li
        v-for="(f, i) in list"
        :key="i"
        class="grid grid-cols-[6rem_1fr] gap-4 border-b border-line py-2"
      >
        <span class="font-medium" :class="look[f.severity]"
          ><span aria-hidden="true">{{ mark[f.severity] }}</span> {{ f.severity }}</span
        >
        <div class="min-w-0">
          <p>{{ sentence(f.reason) }}</p>
          <p v-if="f.fix" class="text-soft">{{ sentence(f.fix) }}</p>
          <p v-if="f.hosts.length" class="machine text-soft">
            {{ f.hosts.slice(0, 6).join(', ')
            }}<template v-if="f.hosts.length > 6"> and {{ f.hosts.length - 6 }} more</template>
          </p>
          <p class="machine break-all text-soft">
            {{ f.file }}:{{ f.line }}:{{ f.column }} ·
            <button
              type="button"
              class="underline decoration-dotted underline-offset-4 hover:text-accent"
              :aria-expanded="asked === name + i"
              :title="`What ${f.code} means`"
              @click="asked = asked === name + i ? '' : name + i"
            >
              {{ f.code }}
            </button>
          </p>
          <p
            v-if="asked === name + i && explained(f.code)"
            class="mt-1 max-w-[46rem] rounded-md bg-sunk px-3 py-2 text-table"
          >
            {{ explained(f.code)!.what }} {{ explained(f.code)!.why }}
            <span class="font-medium">{{ explained(f.code)!.fix }}</span>
          </p>
        </div>
      </li>
    </ul>
  </section>
</template>
