<script setup lang="ts">
import { useRouter } from 'vue-router'
import { client, take } from '../api/client'
import { useDrafts, useRevisions } from '../api/queries'
import Answer from '../components/Answer.vue'
import PageHead from '../components/PageHead.vue'
import { useDoing } from '../composables/doing'
import { moment, plural } from '../composables/format'
import { rowKeys } from '../composables/rows'

const drafts = useDrafts()
const revisions = useRevisions()
const router = useRouter()
const open = (id: number) => router.push(`/changes/${id}`)
const { error, doing } = useDoing()
const begin = () =>
  doing(async () =>
    router.push(
      `/changes/${(await take(client.POST('/drafts', { body: { whole: false, files: [] } }))).id}/definitions`,
    ),
  )
</script>

<template>
  <PageHead title="Changes"
    ><template #actions
      ><button class="button" @click="begin">New draft</button></template
    ></PageHead
  >
  <p v-if="error" role="alert" class="mb-4 text-failing">{{ error }}</p>
  <h2 class="mb-3 text-section font-semibold">Drafts</h2>
  <Answer :pending="drafts.isPending.value" :error="drafts.error.value" what="The drafts">
    <p v-if="!drafts.data.value?.items.length" class="text-soft">
      No draft is open. Begin one here, or load a folder with
      <span class="machine text-ink">synaxis draft load DIR</span>.
    </p>
    <table v-else class="grid-table">
      <thead>
        <tr>
          <th>Draft</th>
          <th>Title</th>
          <th>Changes</th>
          <th>Scope</th>
          <th>Made on</th>
          <th>Author</th>
          <th>Created</th>
        </tr>
      </thead>
      <tbody>
        <tr
          v-for="d in drafts.data.value.items"
          :key="d.id"
          tabindex="0"
          @click="open(d.id)"
          @keydown="rowKeys($event, () => open(d.id))"
        >
          <td class="machine">{{ d.id }}</td>
          <td class="font-medium">{{ d.title }}</td>
          <td class="whitespace-nowrap" :title="d.changes.join(', ')">
            {{
              d.changes.length === 1
                ? d.changes[0]
                : d.changes.length
                  ? plural(d.changes.length, 'definition')
                  : 'nothing yet'
            }}
          </td>
          <td>{{ d.whole ? 'the whole wanted state' : 'adds and replaces' }}</td>
          <td>{{ d.base ? `revision ${d.base}` : 'nothing published' }}</td>
          <td>{{ d.author }}</td>
          <td class="whitespace-nowrap">{{ moment(d.createdAt) }}</td>
        </tr>
      </tbody>
    </table>
  </Answer>
  <h2 class="mt-10 mb-3 text-section font-semibold">Revisions</h2>
  <Answer :pending="revisions.isPending.value" :error="revisions.error.value" what="The revisions">
    <p v-if="!revisions.data.value?.items.length" class="text-soft">
      Nothing has been published yet.
    </p>
    <table v-else class="grid-table">
      <thead>
        <tr>
          <th>Revision</th>
          <th>State</th>
          <th>Title</th>
          <th>Why</th>
          <th>Author</th>
          <th>Published</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in revisions.data.value.items" :key="r.number">
          <td class="machine">{{ r.number }}</td>
          <td>
            <strong v-if="r.inForce" class="font-medium">in force</strong
            ><span v-else class="text-soft">–</span>
          </td>
          <td>{{ r.title }}</td>
          <td>{{ r.message }}</td>
          <td>{{ r.author }}</td>
          <td class="whitespace-nowrap">{{ moment(r.createdAt) }}</td>
        </tr>
      </tbody>
    </table>
  </Answer>
</template>
