import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import type { Schemas } from '../api/client'
import type { HostFilter } from '../api/queries'

/** What narrows and orders the list of hosts. It stands in the address. */
export function useHostFilter() {
  const route = useRoute()
  const router = useRouter()
  const text = ref(typeof route.query.q === 'string' ? route.query.q : '')
  watch(text, (q) => router.replace({ query: { ...route.query, q: q || undefined } }))

  /** The filter box takes a part of a name, KEY=VALUE labels, or a condition over hosts. */
  const isExpression = computed(() => /[=("']|^all$/.test(text.value.trim()))
  const sort = computed(() => (route.query.sort as HostFilter['sort']) ?? 'state')
  const filter = computed<HostFilter>(() => ({
    q: (!isExpression.value && text.value.trim()) || undefined,
    hosts: isExpression.value ? text.value.trim() : undefined,
    state: route.query.state as Schemas['State'] | undefined,
    retired: route.query.retired ? true : undefined,
    sort: sort.value,
    reverse: route.query.reverse ? true : undefined,
  }))

  /** A second click on the head of a column turns the order round. */
  const ordered = (key: string) => ({
    query: {
      ...route.query,
      sort: key,
      reverse: key === sort.value && !route.query.reverse ? 'yes' : undefined,
    },
  })
  return { text, sort, filter, ordered }
}
