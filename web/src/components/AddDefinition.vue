<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { useLanguage } from '../api/queries'
import Sheet from './Sheet.vue'

/** Asks for the kind and the name of a new definition. */
const shown = defineModel<boolean>({ required: true })
const props = defineProps<{ draft: number; taken: string[] }>()
const { data: language } = useLanguage()
const router = useRouter()
const kind = ref('source')
const name = ref('')
const doc = computed(() => language.value?.kinds.find((k) => k.kind === kind.value)?.doc)
const wrong = computed(() => {
  if (!name.value) return ''
  if (!/^[a-z0-9-]{2,63}$/.test(name.value)) return 'A name has 2 to 63 of a-z, 0-9 and -'
  return props.taken.includes(`${kind.value} ${name.value}`)
    ? `There is a ${kind.value} ${name.value} already`
    : ''
})
const go = () =>
  name.value &&
  !wrong.value &&
  router.push(`/changes/${props.draft}/edit/${kind.value}/${name.value}`)
</script>

<template>
  <Sheet
    v-model="shown"
    title="Add a definition"
    about="It begins with an example, to be changed into yours."
  >
    <form id="add" class="mt-4 space-y-3" @submit.prevent="go">
      <div>
        <label for="kind" class="block font-medium">Kind</label
        ><select id="kind" v-model="kind" class="field mt-1 w-full">
          <option v-for="k in language?.kinds ?? []" :key="k.kind">{{ k.kind }}</option>
        </select>
        <p class="mt-1 text-table text-soft">{{ doc }}</p>
      </div>
      <div>
        <label for="name" class="block font-medium">Name</label
        ><input
          id="name"
          v-model="name"
          class="field machine mt-1 w-full"
          maxlength="63"
          aria-describedby="name-wrong"
        />
        <p id="name-wrong" class="mt-1 text-table text-failing">{{ wrong }}</p>
      </div>
    </form>
    <template #actions
      ><button class="button quiet" @click="shown = false">Not now</button
      ><button form="add" class="button" :disabled="!name || !!wrong">Write it</button></template
    >
  </Sheet>
</template>
