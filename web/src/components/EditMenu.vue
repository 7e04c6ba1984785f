<script setup lang="ts">
import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/vue'
import { computed } from 'vue'
import { useRouter } from 'vue-router'
import { client, take } from '../api/client'
import { useDrafts } from '../api/queries'
import { useDoing } from '../composables/doing'

/** Opens a definition for editing: in a draft that is open, or in a new one. */
const props = defineProps<{ kind: string; name: string; word?: string }>()
const { data: drafts } = useDrafts()
const router = useRouter()
const { error, doing } = useDoing()
const id = computed(() => `${props.kind} ${props.name}`)
const go = (draft: number) => router.push(`/changes/${draft}/edit/${props.kind}/${props.name}`)
const begin = () =>
  doing(async () =>
    go(
      (
        await take(
          client.POST('/drafts', { body: { title: `Edit ${id.value}`, whole: false, files: [] } }),
        )
      ).id,
    ),
  )
</script>

<template>
  <Menu as="div" class="relative">
    <MenuButton class="button">{{ word ?? 'Edit in a draft…' }}</MenuButton>
    <MenuItems
      class="absolute right-0 z-20 mt-1 w-80 rounded-md border border-line bg-sheet p-1 shadow-lg"
    >
      <MenuItem v-slot="{ active }"
        ><button
          class="h-9 w-full rounded px-3 text-left"
          :class="{ 'bg-sunk': active }"
          @click="begin"
        >
          In a new draft
        </button></MenuItem
      >
      <MenuItem v-for="d in drafts?.items ?? []" :key="d.id" v-slot="{ active }">
        <button
          class="w-full rounded px-3 py-2 text-left"
          :class="{ 'bg-sunk': active }"
          @click="go(d.id)"
        >
          In draft {{ d.id }}, {{ d.title
          }}<span v-if="d.changes.includes(id)" class="block text-table text-soft"
            >which changes it already</span
          >
        </button>
      </MenuItem>
    </MenuItems>
    <p v-if="error" role="alert" class="absolute right-0 mt-1 w-80 text-failing">{{ error }}</p>
  </Menu>
</template>
