<script setup lang="ts">
import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/vue'
import {
  ArrowPathRoundedSquareIcon,
  BeakerIcon,
  BellIcon,
  BookOpenIcon,
  ClipboardDocumentListIcon,
  ComputerDesktopIcon,
  KeyIcon,
  PencilSquareIcon,
  ServerStackIcon,
  SunIcon,
  TicketIcon,
} from '@heroicons/vue/24/outline'
import { useRouter } from 'vue-router'
import { client, queryClient, take } from '../api/client'
import { useStatus } from '../api/queries'
import { useEvents } from '../composables/events'
import { plural } from '../composables/format'
import { setTheme, theme, type Theme } from '../composables/theme'

const { data: status } = useStatus()
const { live } = useEvents()
const router = useRouter()
const places = [
  { name: 'Morning', to: '/', icon: SunIcon },
  { name: 'Hosts', to: '/hosts', icon: ServerStackIcon },
  { name: 'Catalogue', to: '/catalogue', icon: BookOpenIcon },
  { name: 'Workbench', to: '/workbench', icon: BeakerIcon },
  { name: 'Changes', to: '/changes', icon: PencilSquareIcon },
  { name: 'Rollouts', to: '/rollouts', icon: ArrowPathRoundedSquareIcon },
  { name: 'Notices', to: '/notices', icon: BellIcon },
]
const administration = [
  { name: 'Secrets', to: '/secrets', icon: KeyIcon },
  { name: 'Join tokens', to: '/tokens', icon: TicketIcon },
  { name: 'Audit', to: '/audit', icon: ClipboardDocumentListIcon },
]
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
      <p class="mb-4 flex items-center gap-2 px-2 py-1 text-section font-semibold">
        <img src="/icon.svg" alt="" class="size-6" />Synaxis
      </p>
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
    </nav>
    <div class="min-w-0">
      <div
        class="sticky top-0 z-10 flex min-h-12 flex-wrap items-center gap-x-8 gap-y-1 border-b border-line bg-paper px-8 py-2 text-table"
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
      <main id="content" class="mx-auto max-w-[1440px] px-8 py-8"><slot /></main>
    </div>
  </div>
</template>
