import { computed, onBeforeUnmount, ref, watch } from 'vue'
import { client, ProblemError, queryClient, take, type Schemas } from '../api/client'

const wait = { keep: 600, check: 150 }

/**
 * One definition of a draft while it is edited: the text keeps itself a moment after the last key, and is checked as it is typed.
 */
export function useEditing(draft: () => number, kind: () => string, name: () => string) {
  const text = ref('')
  const published = ref('')
  const etag = ref('')
  const ready = ref(false)
  const error = ref('')
  const stale = ref(false)
  const keptAt = ref<string>()
  const dirty = ref(false)
  const tried = ref<Schemas['Tried']>()
  const path = computed(() => ({ path: { draft: draft(), kind: kind(), name: name() } }))
  let keeping: ReturnType<typeof setTimeout> | undefined
  let checking: ReturnType<typeof setTimeout> | undefined
  let asked = 0
  let kept = ''

  async function load(begin: string) {
    ready.value = stale.value = false
    error.value = ''
    try {
      const d = await take(
        client.GET('/drafts/{draft}/definitions/{kind}/{name}', { params: path.value }),
      )
      published.value = d.published
      etag.value = d.etag
      kept = text.value = d.text || d.published
    } catch (e) {
      if (!(e instanceof ProblemError && e.status === 404)) {
        error.value = e instanceof Error ? e.message : String(e)
        return
      }
      etag.value = '*' // it is new, and is kept as soon as it is changed
      kept = ''
      text.value = begin
    }
    dirty.value = false
    ready.value = true
    void check()
  }

  async function keep() {
    clearTimeout(keeping)
    if (!dirty.value || stale.value) return
    const now = text.value
    try {
      const d = await take(
        client.PUT('/drafts/{draft}/definitions/{kind}/{name}', {
          params: { ...path.value, header: { 'If-Match': etag.value } },
          body: { text: now },
        }),
      )
      etag.value = d.etag
      kept = now
      keptAt.value = new Date().toISOString()
      dirty.value = text.value !== now
      error.value = ''
      void queryClient.invalidateQueries({ queryKey: ['draft', draft()] })
    } catch (e) {
      stale.value = e instanceof ProblemError && e.status === 412
      error.value = e instanceof Error ? e.message : String(e)
    }
  }

  async function check() {
    const mine = ++asked
    try {
      const t = await take(client.POST('/try', { body: { text: text.value, draft: draft() } }))
      if (mine === asked) tried.value = t
    } catch (e) {
      if (mine === asked) error.value = e instanceof Error ? e.message : String(e)
    }
  }

  watch(text, (now) => {
    if (!ready.value) return
    dirty.value = now !== kept
    clearTimeout(keeping)
    clearTimeout(checking)
    keeping = setTimeout(() => void keep(), wait.keep)
    checking = setTimeout(() => void check(), wait.check)
  })
  onBeforeUnmount(() => {
    clearTimeout(checking)
    void keep()
  })

  /** Changes one value as a form does: every other byte of the text stays. */
  async function splice(at: string[], value: unknown) {
    try {
      text.value = (
        await take(client.POST('/splice', { body: { text: text.value, path: at, value } }))
      ).text
      error.value = ''
    } catch (e) {
      error.value = e instanceof Error ? e.message : String(e)
    }
  }
  return { text, published, ready, error, stale, keptAt, dirty, tried, load, keep, splice }
}
