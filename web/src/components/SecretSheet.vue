<script setup lang="ts">
import { ref, watch } from 'vue'
import { client, queryClient, take, type Schemas } from '../api/client'
import { useDoing } from '../composables/doing'
import { plural } from '../composables/format'
import Sheet from './Sheet.vue'

/** Sets or rotates a secret. */
const shown = defineModel<boolean>({ required: true })
const props = defineProps<{ secret?: Schemas['Secret'] }>()
const name = ref('')
const value = ref('')
const about = ref('')
const owner = ref('')
const expires = ref('')
const { busy, error, doing } = useDoing()
watch(shown, (now) => {
  value.value = error.value = ''
  if (!now) return
  name.value = props.secret?.name ?? ''
  about.value = props.secret?.about ?? ''
  owner.value = props.secret?.owner ?? ''
  expires.value = props.secret?.expiresAt?.slice(0, 10) ?? ''
})
const send = () =>
  doing(async () => {
    await take(
      client.PUT('/secrets/{secret}', {
        params: { path: { secret: name.value } },
        body: {
          value: value.value || undefined,
          about: about.value,
          owner: owner.value || undefined,
          expires: expires.value ? `${expires.value}T00:00:00Z` : undefined,
        },
      }),
    )
    await queryClient.invalidateQueries({ queryKey: ['secrets'] })
    shown.value = false
  })
</script>

<template>
  <Sheet
    v-model="shown"
    :title="
      secret ? (secret.version ? `Rotate ${secret.name}` : `Set ${secret.name}`) : 'Set a secret'
    "
    :about="
      secret?.hosts
        ? `${plural(secret.hosts, 'host')} need it, and get the new value with the next rollout.`
        : undefined
    "
    :error="error"
  >
    <form id="secret" class="mt-4 space-y-3" @submit.prevent="send">
      <div v-if="!secret">
        <label for="secret-name" class="block font-medium">Name</label
        ><input
          id="secret-name"
          v-model="name"
          class="field machine mt-1 w-full"
          required
          pattern="[a-z0-9_.\-]{1,63}"
          maxlength="63"
        />
        <p class="mt-1 text-table text-soft">a-z, 0-9, - _ and .</p>
      </div>
      <div>
        <label for="secret-value" class="block font-medium">Value</label
        ><textarea
          id="secret-value"
          v-model="value"
          rows="3"
          class="field machine mt-1 !h-auto w-full py-2 [-webkit-text-security:disc]"
          autocomplete="off"
          spellcheck="false"
          :required="!secret?.version"
        />
        <p class="mt-1 text-table text-soft">
          It is not shown again, to nobody.<template v-if="secret?.version">
            Leave it empty to change only what is said below.</template
          >
        </p>
      </div>
      <div>
        <label for="secret-about" class="block font-medium">What it is for</label
        ><input id="secret-about" v-model="about" class="field mt-1 w-full" maxlength="400" />
      </div>
      <div>
        <label for="secret-expires" class="block font-medium">Expires on</label
        ><input id="secret-expires" v-model="expires" type="date" class="field machine mt-1" />
        <p class="mt-1 text-table text-soft">
          Optional. The first page tells it 30 days before; the end of a certificate is read from
          it.
        </p>
      </div>
      <div>
        <label for="secret-owner" class="block font-medium">Owner</label
        ><input id="secret-owner" v-model="owner" class="field mt-1 w-full" maxlength="100" />
        <p class="mt-1 text-table text-soft">Who looks after it and rotates it.</p>
      </div>
    </form>
    <template #actions
      ><button class="button quiet" @click="shown = false">Not now</button
      ><button form="secret" class="button" :disabled="busy">Keep</button></template
    >
  </Sheet>
</template>
