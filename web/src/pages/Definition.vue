<script setup lang="ts">
import { useDefinition } from '../api/queries'
import Answer from '../components/Answer.vue'
import EditMenu from '../components/EditMenu.vue'
import PageHead from '../components/PageHead.vue'
import YamlText from '../components/YamlText.vue'
import { plural } from '../composables/format'

const props = defineProps<{ kind: string; name: string }>()
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
        v-if="kind === 'source' || kind === 'format'"
        class="button quiet"
        :to="{ path: '/workbench', query: { [kind]: name } }"
        >Try it on lines</router-link
      ><EditMenu :kind="kind" :name="name"
    /></template>
  </PageHead>
  <Answer :pending="isPending" :error="error" :what="`${kind} ${name}`">
    <div v-if="d" class="grid gap-8 lg:grid-cols-[1fr_20rem]">
      <div class="min-w-0">
        <p class="machine mb-2 text-soft">
          {{ d.file }}, line {{ d.line }} · meaning last changed in revision {{ d.changed }}
        </p>
        <YamlText :text="d.text" :from="d.line" />
      </div>
      <aside class="space-y-6">
        <section v-if="['source', 'settings', 'agents'].includes(kind)">
          <h2 class="mb-2 font-semibold">{{ plural(d.hosts.length, 'host') }}</h2>
          <ul class="max-h-96 overflow-y-auto">
            <li v-for="h in d.hosts" :key="h">
              <router-link :to="`/hosts/${h}`" class="link machine">{{ h }}</router-link>
            </li>
          </ul>
        </section>
        <section v-if="d.usedBy.length || ['format', 'destination', 'mask'].includes(kind)">
          <h2 class="mb-2 font-semibold">Used by</h2>
          <ul>
            <li v-for="s in d.usedBy" :key="s">
              <router-link :to="`/catalogue/${s.replace(' ', '/')}`" class="link machine">{{
                s
              }}</router-link>
            </li>
          </ul>
          <p v-if="!d.usedBy.length" class="text-soft">Nothing uses it.</p>
        </section>
      </aside>
    </div>
  </Answer>
</template>
