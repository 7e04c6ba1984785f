import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'

/** Chosen rows stand in the address: names, or * for all that fit. */
export function useChosen() {
  const route = useRoute()
  const router = useRouter()
  const chosen = computed(() =>
    typeof route.query.chosen === 'string' && route.query.chosen
      ? route.query.chosen.split(',')
      : [],
  )
  const all = computed(() => chosen.value[0] === '*')
  const choose = (names: string[]) =>
    router.replace({ query: { ...route.query, chosen: names.join(',') || undefined } })
  const toggle = (name: string) =>
    choose(
      chosen.value.includes(name)
        ? chosen.value.filter((n) => n !== name)
        : [...chosen.value.filter((n) => n !== '*'), name],
    )
  return { chosen, all, choose, toggle }
}
