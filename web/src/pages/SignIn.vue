<script setup lang="ts">
import { ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { client, take } from '../api/client'

const route = useRoute()
const router = useRouter()
const token = ref('')
const error = ref('')
const busy = ref(false)

async function signIn(body: { token?: string; code?: string }) {
  busy.value = true
  error.value = ''
  try {
    await take(client.POST('/session', { body }))
    const to =
      typeof route.query.to === 'string' &&
      route.query.to.startsWith('/') &&
      !route.query.to.startsWith('//')
        ? route.query.to
        : '/'
    await router.replace(to)
  } catch (e) {
    error.value = e instanceof Error ? e.message : String(e)
  } finally {
    busy.value = false
  }
}

// A one-time link carries its code behind the #, which never leaves the browser in a request line. It may be opened in
// a tab that shows this page already.
watch(
  () => route.hash,
  async (hash) => {
    if (!hash) return
    await router.replace({ path: '/sign-in', query: route.query })
    await signIn({ code: hash.slice(1) })
  },
  { immediate: true },
)
</script>

<template>
  <main class="mx-auto flex min-h-screen max-w-md flex-col justify-center px-6">
    <p class="mb-8 flex items-center gap-3 text-page font-semibold">
      <img src="/icon.svg" alt="" class="size-9" />Synaxis
    </p>
    <h1 class="mb-4 text-section font-semibold">Sign in</h1>
    <form class="flex flex-col gap-2" @submit.prevent="signIn({ token: token.trim() })">
      <label for="token" class="font-medium">API token</label>
      <input
        id="token"
        v-model="token"
        type="password"
        autocomplete="current-password"
        class="field machine"
        required
        :aria-invalid="!!error"
        aria-describedby="token-help"
      />
      <p id="token-help" class="text-table text-soft">
        The service wrote it to <span class="machine">admin.token</span> in its data folder at its
        first start. Or open the link that <span class="machine">synaxis login --link</span> prints.
      </p>
      <p v-if="error" role="alert" class="rounded-md border border-failing px-3 py-2 text-failing">
        {{ error }}
      </p>
      <button class="button mt-2 self-start" :disabled="busy">
        {{ busy ? 'Signing in…' : 'Sign in' }}
      </button>
    </form>
  </main>
</template>
