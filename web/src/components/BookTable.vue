<script setup lang="ts">
import { computed } from 'vue'
import { useBooks } from '../api/queries'
import { number } from '../composables/format'
import Answer from './Answer.vue'

/** What became of every record that was brought to a destination, by source. */
const props = defineProps<{ destination: string }>()
const { data, isPending, error } = useBooks()
const lines = computed(
  () => data.value?.items.filter((l) => l.numbers.destination === props.destination) ?? [],
)
</script>

<template>
  <p class="mb-4 max-w-[46rem] text-soft">
    Read = dropped + elsewhere + acknowledged + rejected + given up + on disk + in memory.
    <em>Elsewhere</em> are records that go to other destinations only. The difference is zero.
  </p>
  <Answer :pending="isPending" :error="error" what="The books">
    <p v-if="!lines.length" class="text-soft">No host has counted anything for it yet.</p>
    <div v-else class="overflow-x-auto">
      <table class="grid-table">
        <thead>
          <tr>
            <th>Source</th>
            <th class="!text-right">Hosts</th>
            <th class="!text-right">Read</th>
            <th class="!text-right">Dropped</th>
            <th class="!text-right">Elsewhere</th>
            <th class="!text-right">Acknowledged</th>
            <th class="!text-right">Rejected</th>
            <th class="!text-right">Given up</th>
            <th class="!text-right">On disk</th>
            <th class="!text-right">In memory</th>
            <th class="!text-right">Difference</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="l in lines" :key="l.source">
            <td>
              <router-link :to="`/catalogue/source/${l.source}`" class="link machine">{{
                l.source
              }}</router-link>
              <p v-if="l.unbalanced.length" class="text-failing">
                Not balanced on {{ l.unbalanced.slice(0, 5).join(', ') }}
              </p>
            </td>
            <td class="num">{{ number(l.hosts) }}</td>
            <td class="num">{{ number(l.numbers.read) }}</td>
            <td class="num">{{ number(l.numbers.dropped) }}</td>
            <td class="num">{{ number(l.numbers.elsewhere) }}</td>
            <td class="num">{{ number(l.numbers.acknowledged) }}</td>
            <td class="num">{{ number(l.numbers.refused) }}</td>
            <td class="num">{{ number(l.numbers.discarded) }}</td>
            <td class="num">{{ number(l.numbers.onDisk) }}</td>
            <td class="num">{{ number(l.numbers.inMemory) }}</td>
            <td class="num" :class="{ 'text-failing': l.difference }">
              {{ number(l.difference) }}
            </td>
          </tr>
        </tbody>
      </table>
    </div>
  </Answer>
</template>
