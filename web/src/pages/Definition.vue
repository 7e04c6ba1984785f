<script setup lang="ts">
import { ref } from 'vue'
import { useDefinition } from '../api/queries'
import Answer from '../components/Answer.vue'
import DefinitionText from '../components/DefinitionText.vue'
import DestinationTabs from '../components/DestinationTabs.vue'
import EditMenu from '../components/EditMenu.vue'
import NumberCharts from '../components/NumberCharts.vue'
import PageHead from '../components/PageHead.vue'
import ProbeSheet from '../components/ProbeSheet.vue'
import Tabs from '../components/Tabs.vue'

const probing = ref(false)
const props = defineProps<{ kind: string; name: string; tab?: string }>()
const {
  data: d,
  isPending,
  error,
} = useDefinition(
  () => props.kind,
  () => props.name,
)
</script>

<template>
  <PageHead :title="name" back="Catalogue" back-to="/catalogue" machine>
    <p class="text-soft">
      {{ kind }}<template v-if="d?.about"> · {{ d.about }}</template>
    </p>
    <template #actions
      ><router-link
        v-if="kind === 'source'"
        class="button quiet"
        :to="{ path: '/peek', query: { source: name } }"
        >Look at records</router-link
      ><button v-if="kind === 'source'" class="button quiet" @click="probing = true">Probe…</button
      ><router-link
        v-if="kind === 'source' || kind === 'format'"
        class="button quiet"
        :to="{ path: '/workbench', query: { [kind]: name } }"
        >Try it on lines</router-link
      ><EditMenu :kind="kind" :name="name"
    /></template>
  </PageHead>
  <ProbeSheet v-model="probing" :source="name" />
  <Answer :pending="isPending" :error="error" :what="`${kind} ${name}`">
    <DestinationTabs v-if="kind === 'destination'" :name="name" :tab="tab">
      <DefinitionText v-if="d" :d="d" :kind="kind" />
    </DestinationTabs>
    <template v-else-if="kind === 'source'">
      <Tabs
        :tabs="[
          { name: 'Definition', to: `/catalogue/source/${name}` },
          { name: 'Numbers', to: `/catalogue/source/${name}/numbers` },
        ]"
        :current="tab || 'definition'"
      />
      <NumberCharts v-if="tab === 'numbers'" :key="name" :source="name" />
      <DefinitionText v-else-if="d" :d="d" :kind="kind" />
    </template>
    <DefinitionText v-else-if="d" :d="d" :kind="kind" />
  </Answer>
</template>
