<script setup lang="ts">
import { ref, watch } from 'vue'
import { client, queryClient, take, type Schemas } from '../api/client'
import { useDoing } from '../composables/doing'
import { moment } from '../composables/format'
import CopyText from './CopyText.vue'
import Sheet from './Sheet.vue'

/** Lets somebody set one secret and do nothing else. */
const shown = defineModel<boolean>({ required: true })
const props = defineProps<{ secret: string }>()
const to = ref('')
const lasts = ref('72h')
const made = ref<Schemas['CreatedGrant']>()
const { busy, error, doing } = useDoing()
watch(shown, () => {
  to.value = error.value = ''
  made.value = undefined
})
const send = () =>
  doing(async () => {
    made.value = await take(
      client.POST('/secrets/{secret}/grants', {
        params: { path: { secret: props.secret } },
        body: { to: to.value, lasts: lasts.value },
      }),
    )
    await queryClient.invalidateQueries({ queryKey: ['secrets'] })
  })
</script>

<template>
  <Sheet
    v-model="shown"
    :title="`Let somebody set ${secret}`"
    about="They can set this one secret and do nothing else: they see no value, no host and no definition."
    :error="error"
  >
    <div v-if="made" class="mt-4">
      <p>Send this link. It is shown only now, and good until {{ moment(made.expiresAt) }}.</p>
      <CopyText class="mt-2" :text="made.url" label="the link" />
    </div>
    <form v-else id="grant" class="mt-4 space-y-3" @submit.prevent="send">
      <div>
        <label for="grant-to" class="block font-medium">Who</label
        ><input id="grant-to" v-model="to" class="field mt-1 w-full" required maxlength="100" />
        <p class="mt-1 text-table text-soft">The audit names them when they set it.</p>
      </div>
      <div>
        <label for="grant-lasts" class="block font-medium">For how long</label
        ><input id="grant-lasts" v-model="lasts" class="field machine mt-1 w-40" />
      </div>
    </form>
    <template #actions
      ><button class="button quiet" @click="shown = false">{{ made ? 'Done' : 'Not now' }}</button
      ><button v-if="!made" form="grant" class="button" :disabled="busy">
        Make the link
      </button></template
    >
  </Sheet>
</template>
