<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { client, take } from '../api/client'
import { useConflicts, useDraft, useImpact } from '../api/queries'
import Answer from '../components/Answer.vue'
import ConflictList from '../components/ConflictList.vue'
import CoverageTable from '../components/CoverageTable.vue'
import DraftChanges from '../components/DraftChanges.vue'
import FindingList from '../components/FindingList.vue'
import HostGroups from '../components/HostGroups.vue'
import PreflightTab from '../components/PreflightTab.vue'
import TrialTab from '../components/TrialTab.vue'
import PageHead from '../components/PageHead.vue'
import PublishDialog from '../components/PublishDialog.vue'
import Tabs from '../components/Tabs.vue'
import { moment, plural, sentence } from '../composables/format'

const props = defineProps<{ draft: string; tab?: string }>()
const router = useRouter()
const id = computed(() => Number(props.draft))
const { data: d, isPending, error } = useDraft(id)
const isOpen = computed(() => d.value?.state === 'open')
const impact = useImpact(id, isOpen)
const conflicts = useConflicts(id, isOpen)
const errors = computed(() => d.value?.findings.filter((f) => f.severity === 'error').length ?? 0)
const current = computed(
  () =>
    props.tab || (errors.value ? 'findings' : impact.data.value?.hosts ? 'hosts' : 'definitions'),
)
const asking = ref(false)
const failure = ref('')

async function discard() {
  try {
    await take(client.DELETE('/drafts/{draft}', { params: { path: { draft: id.value } } }))
    await router.push('/changes')
  } catch (e) {
    failure.value = e instanceof Error ? e.message : String(e)
  }
}
</script>

<template>
  <PageHead :title="d ? d.title : `Draft ${draft}`" back="Changes" back-to="/changes">
    <p v-if="d" class="text-soft">
      Draft {{ d.id }}, {{ d.whole ? 'the whole wanted state' : 'adds and replaces' }}, by
      {{ d.author }}, {{ moment(d.createdAt) }}
    </p>
    <template v-if="isOpen" #actions>
      <button class="button quiet" @click="discard">Discard</button>
      <button
        class="button"
        :disabled="errors > 0"
        :title="errors ? 'Errors must be mended first' : undefined"
        @click="asking = true"
      >
        Publish…
      </button>
    </template>
  </PageHead>
  <p
    v-if="failure"
    role="alert"
    class="mb-4 rounded-md border border-failing px-4 py-2 text-failing"
  >
    {{ failure }}
  </p>
  <Answer :pending="isPending" :error="error" :what="`Draft ${draft}`">
    <template v-if="d">
      <p v-if="!isOpen" class="mb-4">
        This draft was {{ d.state
        }}<template v-if="d.revision">
          as revision {{ d.revision }}.
          <router-link to="/rollouts" class="link">To the rollouts</router-link></template
        >.
      </p>
      <template v-else>
        <p v-if="errors" class="font-medium text-failing">
          <span aria-hidden="true">✖</span> {{ plural(errors, 'error') }} must be mended before it
          can be published
        </p>
        <p v-else-if="impact.data.value">
          {{ plural(impact.data.value.definitions.length, 'definition') }} and
          <strong class="font-medium">{{ plural(impact.data.value.hosts, 'host') }}</strong> change;
          {{ impact.data.value.unchanged }} stay as they are.
        </p>
        <ul v-if="impact.data.value?.losses.length" class="mt-2" role="status">
          <li v-for="l in impact.data.value.losses" :key="l" class="text-degraded">
            <span aria-hidden="true">▲</span> {{ sentence(l) }}
          </li>
        </ul>
        <Tabs
          :current="current"
          :tabs="[
            { name: 'Findings', to: `/changes/${id}/findings`, count: d.findings.length },
            {
              name: 'Definitions',
              to: `/changes/${id}/definitions`,
              count: impact.data.value?.definitions.length,
            },
            { name: 'Hosts', to: `/changes/${id}/hosts`, count: impact.data.value?.hosts },
            { name: 'Preflight', to: `/changes/${id}/preflight` },
            { name: 'Trial', to: `/changes/${id}/trial` },
            { name: 'Masks', to: `/changes/${id}/masks` },
            {
              name: 'Conflicts',
              to: `/changes/${id}/conflicts`,
              count: conflicts.data.value?.items.length,
            },
          ]"
        />
        <template v-if="current === 'findings'">
          <FindingList v-if="d.findings.length" :findings="d.findings" :draft="id" />
          <p v-else class="text-soft">All checks are passed.</p>
        </template>
        <CoverageTable v-else-if="current === 'masks'" :draft="id" />
        <PreflightTab
          v-else-if="current === 'preflight'"
          :draft="id"
          :hosts="impact.data.value?.hosts ?? 0"
        />
        <TrialTab
          v-else-if="current === 'trial'"
          :draft="id"
          :hosts="impact.data.value?.hosts ?? 0"
        />
        <DraftChanges v-else-if="current === 'definitions'" :draft="id" />
        <Answer
          v-else-if="current === 'conflicts'"
          :pending="conflicts.isPending.value"
          :error="conflicts.error.value"
          what="The conflicts"
        >
          <ConflictList
            v-if="conflicts.data.value"
            :conflicts="conflicts.data.value.items"
            :draft="id"
          />
        </Answer>
        <Answer
          v-else
          :pending="impact.isPending.value"
          :error="impact.error.value"
          what="The differences"
        >
          <HostGroups v-if="impact.data.value" :groups="impact.data.value.groups" />
        </Answer>
      </template>
      <PublishDialog
        v-model="asking"
        :draft="id"
        :head="impact.data.value?.head"
        :hosts="impact.data.value?.hosts ?? 0"
      />
    </template>
  </Answer>
</template>
