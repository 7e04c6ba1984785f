<script setup lang="ts">
import type { Row } from '../composables/workbench'

/** What each step did to a record, in order. */
const props = defineProps<{ row: Row }>()
const marksIn = (where: string) => (props.row.marks ?? []).filter((m) => m.in === where)
const word = (e: NonNullable<Row['effects']>[number]) => (e.step ? `${e.step} ${e.kind}` : 'guards')
</script>

<template>
  <ol
    v-if="row.effects?.length"
    class="mt-3 border-t border-line text-table"
    aria-label="What the steps did"
  >
    <li
      v-for="(e, i) in row.effects"
      :key="i"
      class="grid grid-cols-[6rem_1fr] gap-3 border-b border-line py-1.5"
    >
      <span class="font-medium">{{ word(e) }}</span>
      <span class="min-w-0 break-words">
        <span v-for="c in e.changes" :key="c.name" class="mr-4"
          ><span class="machine">{{ c.name }}</span
          >{{ ' '
          }}<template v-if="e.kind === 'mask' || e.kind === 'guards'"
            ><span class="masked">{{ marksIn(c.name)[0]?.mask ?? 'masked' }}</span></template
          ><template v-else-if="c.after === undefined">is taken away</template
          ><template v-else
            ><span class="text-soft">=</span> <span class="machine">{{ c.after }}</span></template
          ></span
        >
        <span v-if="e.failed" class="text-degraded"
          >▲ {{ e.failed }} could not be computed, and did nothing</span
        >
        <span v-if="e.drops" class="text-degraded">✖ ends the record here</span>
      </span>
    </li>
  </ol>
</template>
