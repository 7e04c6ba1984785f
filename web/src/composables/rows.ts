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
