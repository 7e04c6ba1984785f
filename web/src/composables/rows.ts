import { computed, ref, watch, type ComponentPublicInstance, type Ref } from 'vue'
import { useWindowVirtualizer } from '@tanstack/vue-virtual'

/** Arrow keys move between the rows of a table, Enter opens one, Escape leaves. */
export function rowKeys(e: KeyboardEvent, open: () => void) {
  const row = e.currentTarget as HTMLElement
  if (e.key === 'Enter') open()
  else if (e.key === 'ArrowDown') (row.nextElementSibling as HTMLElement | null)?.focus()
  else if (e.key === 'ArrowUp') (row.previousElementSibling as HTMLElement | null)?.focus()
  else if (e.key === 'Escape') row.blur()
  else return
  e.preventDefault()
}

/** Rows of a long list, of which only those near the window are in the page; `more` is called when the end comes near. */
export function useLongList<T>(rows: Ref<T[]>, ahead: number, more: () => void) {
  const wrap = ref<HTMLElement>()
  const options = computed(() => ({
    count: rows.value.length,
    estimateSize: () => 40,
    overscan: 30,
    scrollMargin: wrap.value?.offsetTop ?? 0,
  }))
  const virtualizer = useWindowVirtualizer(options)
  const items = computed(() =>
    virtualizer.value.getVirtualItems().filter((i) => i.index < rows.value.length),
  )
  const list = computed(() =>
    items.value.map((i) => ({ row: rows.value[i.index] as T, index: i.index })),
  )
  const before = computed(() =>
    Math.max(0, (items.value[0]?.start ?? 0) - options.value.scrollMargin),
  )
  const after = computed(() =>
    Math.max(
      0,
      virtualizer.value.getTotalSize() -
        ((items.value.at(-1)?.end ?? 0) - options.value.scrollMargin),
    ),
  )
  const measure = (el: Element | ComponentPublicInstance | null) => {
    if (el instanceof Element) virtualizer.value.measureElement(el)
  }
  watch(
    () => items.value.at(-1)?.index,
    (last) => {
      if (last !== undefined && last > rows.value.length - ahead / 5) more()
    },
  )
  return { wrap, list, before, after, measure }
}
