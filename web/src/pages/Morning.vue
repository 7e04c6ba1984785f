<script setup lang="ts">
import { computed } from 'vue'
import { useStatus } from '../api/queries'
import Answer from '../components/Answer.vue'
import CauseList from '../components/CauseList.vue'
import LastDay from '../components/LastDay.vue'
import PageHead from '../components/PageHead.vue'
import RolloutBar from '../components/RolloutBar.vue'
import SiteStrip from '../components/SiteStrip.vue'
import StateCounts from '../components/StateCounts.vue'
import { ago, bytes, moment, plural, sentence } from '../composables/format'

const { data: s, isPending, error } = useStatus()
const waits = computed(() => {
  const v = s.value
  if (!v) return []
  const out: { text: string; to: string; todo: string }[] = v.drafts.map((d) => ({
    text: `Draft ${d.id}, “${d.title}”, by ${d.author} ${ago(d.createdAt)}`,
    to: `/changes/${d.id}`,
    todo: 'Look at its findings and differences, then publish it',
  }))
  if (!Object.values(v.hosts).some((n) => n > 0))
    out.push({
      text: 'No host has joined yet',
      to: '/tokens',
      todo: 'Make a join token, and paste its line on a host',
    })
  if (v.newcomers)
    out.push({
      text: `${plural(v.newcomers, 'agent')} with the identity, or the name, of another host`,
      to: '/hosts',
      todo: v.newcomers === 1 ? 'Let it join, or turn it away' : 'Let them join, or turn them away',
    })
  if (!v.published && !v.drafts.length)
    out.push({
      text: 'Nothing is defined yet',
      to: '/changes',
      todo: 'Begin a draft, or load a folder with synaxis draft load DIR',
    })
  if (v.published > v.inForce && !v.rolledOut && v.rollout?.state !== 'running')
    out.push({
      text: `Revision ${v.published} is published and runs on no host yet`,
      to: '/rollouts',
      todo: 'Roll it out',
    })
  if (v.pendingInventory.length)
    out.push({
      text: `Labels or settings of ${plural(v.pendingInventory.length, 'host')} changed`,
      to: '/rollouts',
      todo: 'They go out with the next rollout',
    })
  for (const m of v.maintenance)
    out.push({
      text: `Nothing is told of ${m.hosts} until ${moment(m.until)}${m.word ? `: ${m.word}` : ''}`,
      to: '/notices',
      todo: 'It ends by itself, or end it now',
    })
  for (const e of v.expires)
    out.push({
      text: `▲ ${sentence(e.words)}`,
      to:
        e.kind === 'secret'
          ? '/secrets'
          : e.kind === 'certificate'
            ? `/catalogue/destination/${e.name}`
            : '/audit',
      todo:
        e.kind === 'service' ? 'Give the service a new certificate' : 'Put a new one in its place',
    })
  return out
})
</script>

<template>
  <PageHead title="Morning" />
  <Answer :pending="isPending" :error="error" what="The state of the fleet">
    <template v-if="s">
      <SiteStrip v-if="s.sites.length" :sites="s.sites" />
      <section class="mb-10">
        <h2 class="mb-3 text-section font-semibold">What is wrong</h2>
        <div v-if="s.trouble" role="alert" class="mb-4 rounded-md border border-failing p-4">
          <p class="font-medium text-failing">
            <span aria-hidden="true">⬣</span> {{ sentence(s.trouble.reason)
            }}<span class="font-normal text-soft">
              · since {{ ago(s.trouble.since).replace(' ago', '') }}</span
            >
          </p>
          <p class="text-soft">{{ sentence(s.trouble.todo) }}</p>
        </div>
        <CauseList :causes="s.causes" :more="s.moreCauses" :quiet="!!s.trouble" />
      </section>
      <section class="mb-10">
        <h2 class="mb-3 text-section font-semibold">What waits</h2>
        <p v-if="!waits.length" class="text-soft">Nothing. All that was decided is in force.</p>
        <ul v-else class="border-t border-line">
          <li
            v-for="w in waits"
            :key="w.text"
            class="flex flex-wrap justify-between gap-x-6 border-b border-line py-2.5"
          >
            <span>{{ w.text }}</span><router-link :to="w.to" class="link">{{ w.todo }}</router-link>
          </li>
        </ul>
      </section>
      <section class="grid gap-x-12 gap-y-8 md:grid-cols-2">
        <div>
          <h2 class="mb-3 text-section font-semibold">Hosts</h2>
          <StateCounts :counts="s.hosts" />
          <p class="mt-3">
            <router-link to="/hosts" class="link">See every host with its sources</router-link>
          </p>
        </div>
        <div>
          <h2 class="mb-3 text-section font-semibold">Sources on hosts</h2>
          <StateCounts :counts="s.sources" />
        </div>
        <div v-if="s.volume">
          <h2 class="mb-3 text-section font-semibold">Last 24 hours</h2>
          <p>
            {{ bytes(s.volume.day) }} read;
            {{
              s.volume.usual
                ? `usually ${bytes(s.volume.usual)}`
                : 'what is usual is known after a day'
            }}
          </p>
        </div>
        <div v-if="s.rollout">
          <h2 class="mb-3 text-section font-semibold">Last rollout</h2>
          <p class="mb-3">
            <router-link :to="`/rollouts/${s.rollout.id}`" class="link"
              >Rollout {{ s.rollout.id }}</router-link
            >
            of revision {{ s.rollout.revision }}, {{ s.rollout.state }}, started
            {{ ago(s.rollout.started) }} by {{ s.rollout.author }}
          </p>
          <RolloutBar :counts="s.rollout.counts" />
        </div>
      </section>
      <LastDay :status="s" />
    </template>
  </Answer>
</template>
