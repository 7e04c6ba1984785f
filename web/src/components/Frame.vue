<script setup lang="ts">
import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/vue'
import { Bars3Icon, ComputerDesktopIcon, MagnifyingGlassIcon } from '@heroicons/vue/24/outline'
import { ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { client, queryClient, take } from '../api/client'
import { useStatus } from '../api/queries'
import { useEvents } from '../composables/events'
import { plural } from '../composables/format'
import { administration, places } from '../composables/places'
import { setTheme, theme, type Theme } from '../composables/theme'
import CommandPalette from './CommandPalette.vue'

const { data: status } = useStatus()
const { live } = useEvents()
const router = useRouter()
const route = useRoute()
const palette = ref<InstanceType<typeof CommandPalette>>()
/** On a small screen the rail is one button until it is asked for. */
const unfolded = ref(false)
watch(
  () => route.path,
  () => (unfolded.value = false),
)
const themes: { is: Theme; word: string }[] = [
  { is: 'system', word: 'As the system' },
  { is: 'light', word: 'Light' },
  { is: 'dark', word: 'Dark' },
]

async function signOut() {
  await take(client.DELETE('/session')).catch(() => undefined)
  queryClient.clear()
  await router.push('/sign-in')
}
</script>

<template>
  <div class="min-h-screen md:grid md:grid-cols-[11rem_1fr]">
    <a href="#content" class="sr-only focus:not-sr-only">To the content</a>
    <nav
      class="flex flex-wrap gap-1 border-line bg-sunk p-3 md:sticky md:top-0 md:h-screen md:flex-col md:flex-nowrap md:border-r"
      aria-label="Places"
    >
      <p class="flex items-center gap-2 px-2 py-1 text-section font-semibold md:mb-4">
        <img src="/icon.svg" alt="" class="size-6" />Synaxis
      </p>
      <button
        type="button"
        class="ml-auto flex h-9 items-center gap-2 px-2 md:hidden"
        :aria-expanded="unfolded"
        @click="unfolded = !unfolded"
      >
        <Bars3Icon class="size-5" aria-hidden="true" />Places
      </button>
      <button
        type="button"
        class="flex h-9 items-center gap-3 rounded-md px-2 text-soft hover:bg-sheet hover:text-ink md:mb-2"
        @click="palette?.show()"
      >
        <MagnifyingGlassIcon class="size-5" aria-hidden="true" /><span class="whitespace-nowrap"
          >Go to</span
        ><kbd
          class="ml-auto hidden rounded border border-line px-1 text-[11px] whitespace-nowrap md:block"
          >Ctrl&nbsp;K</kbd
        >
      </button>
      <div
        class="w-full gap-1 md:flex md:flex-1 md:flex-col"
        :class="unfolded ? 'flex flex-col' : 'hidden'"
      >
        <template v-for="(group, n) in [places, administration]" :key="n">
          <p v-if="n" class="hidden px-2 pt-5 pb-1 text-table text-soft md:block">Administration</p>
          <router-link
            v-for="p in group"
            :key="p.to"
            :to="p.to"
            class="flex h-9 items-center gap-3 rounded-md px-2 text-soft hover:bg-sheet hover:text-ink"
            :class="{
              'bg-sheet !text-ink font-medium':
                p.to === '/'
                  ? $route.path === '/'
                  : $route.path.startsWith(p.to) ||
                    (p.to === '/catalogue' && $route.path === '/coverage'),
            }"
          >
            <component :is="p.icon" class="size-5" aria-hidden="true" />{{ p.name }}
          </router-link>
        </template>
        <Menu as="div" class="relative md:mt-auto">
          <MenuButton
            class="flex h-9 w-full items-center gap-3 rounded-md px-2 text-soft hover:bg-sheet hover:text-ink"
            ><ComputerDesktopIcon class="size-5" aria-hidden="true" />Admin</MenuButton
          >
          <MenuItems
            class="absolute z-20 w-44 rounded-md border border-line bg-sheet p-1 shadow-lg md:bottom-10"
          >
            <MenuItem v-for="t in themes" :key="t.is" v-slot="{ active }">
              <button
                class="flex h-8 w-full items-center justify-between rounded px-2 text-left text-table"
                :class="{ 'bg-sunk': active }"
                @click="setTheme(t.is)"
              >
                {{ t.word }}<span v-if="theme === t.is" aria-label="chosen">✓</span>
              </button>
            </MenuItem>
            <MenuItem v-slot="{ active }"
              ><button
                class="mt-1 h-8 w-full rounded border-t border-line px-2 text-left text-table"
                :class="{ 'bg-sunk': active }"
                @click="signOut"
              >
                Sign out
              </button></MenuItem
            >
          </MenuItems>
        </Menu>
      </div>
    </nav>
    <CommandPalette ref="palette" />
    <div class="min-w-0">
      <div
        class="sticky top-0 z-10 flex min-h-12 flex-wrap items-center gap-x-8 gap-y-1 border-b border-line bg-paper px-4 py-2 text-table md:px-8"
        role="status"
      >
        <template v-if="status">
          <span
            ><span class="text-soft">In force</span>
            <strong class="font-medium">{{
              status.inForce ? `revision ${status.inForce}` : 'nothing yet'
            }}</strong></span
          >
          <router-link to="/changes" class="hover:text-accent">
            <span class="text-soft">Drafted</span>
            <strong class="font-medium">{{
              status.drafts.length ? plural(status.drafts.length, 'draft') : 'nothing'
            }}</strong><template v-if="status.published > status.inForce && !status.rolledOut"
              >,
              <strong class="font-medium"
                >revision {{ status.published }} published and not in force</strong
              ></template
            >
          </router-link>
          <router-link
            :to="status.rollout ? `/rollouts/${status.rollout.id}` : '/rollouts'"
            class="hover:text-accent"
          >
            <span class="text-soft">Rolling out</span>
            <strong class="font-medium">{{
              status.rollout?.state === 'running'
                ? `revision ${status.rollout.revision}`
                : 'nothing'
            }}</strong>
          </router-link>
        </template>
        <span v-if="!live" class="ml-auto font-medium text-degraded"
          >▲ Not connected to the service; what you see may be old</span
        >
      </div>
      <main id="content" class="mx-auto max-w-[1440px] px-4 py-8 md:px-8"><slot /></main>
    </div>
  </div>
</template>
