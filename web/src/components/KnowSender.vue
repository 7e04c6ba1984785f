<script setup lang="ts">
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { client, take, type Schemas } from '../api/client'
import { sentence } from '../composables/format'

/** Makes an unknown sender known: its name and a label go into the definition of its source, in a draft. */
const props = defineProps<{ sender: Schemas['Sender'] }>()
const router = useRouter()
const name = ref('')
const site = ref('')
const wrong = ref('')

async function know() {
  wrong.value = ''
  try {
    const done = await take(
      client.POST('/senders/definitions', {
        body: {
          source: props.sender.source,
          senders: [
            {
              name: name.value,
              from: props.sender.address,
              labels: site.value ? { site: site.value } : undefined,
            },
          ],
        },
      }),
    )
    await router.push(`/changes/${done.draft}`)
  } catch (e) {
    wrong.value = (e as Error).message
  }
}
</script>

<template>
  <form class="mt-4 flex flex-wrap items-end gap-3" @submit.prevent="know">
    <div>
      <label for="sender-name" class="block font-medium">Name</label
      ><input
        id="sender-name"
        v-model="name"
        required
        class="field machine mt-1"
        placeholder="bridge-b"
      />
    </div>
    <div>
      <label for="sender-site" class="block font-medium">Site</label
      ><input id="sender-site" v-model="site" class="field machine mt-1" />
    </div>
    <button type="submit" class="button">Make it known in a draft</button>
    <p v-if="wrong" role="alert" class="w-full text-failing">{{ sentence(wrong) }}</p>
  </form>
</template>
