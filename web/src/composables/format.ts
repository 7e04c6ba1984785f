import { ref } from 'vue'

/** The present moment, so that "3 s ago" moves on by itself. */
export const now = ref(Date.now())
setInterval(() => (now.value = Date.now()), 1000)

export function ago(at?: string | null): string {
  if (!at) return '–'
  const s = Math.max(0, Math.round((now.value - Date.parse(at)) / 1000))
  if (s < 2) return 'now'
  if (s < 60) return `${s} s ago`
  if (s < 3600) return `${Math.floor(s / 60)} min ago`
  if (s < 48 * 3600) return `${Math.floor(s / 3600)} h ago`
  return `${Math.floor(s / 86400)} days ago`
}

export function until(at?: string | null): string {
  if (!at) return ''
  const s = Math.round((Date.parse(at) - now.value) / 1000)
  if (s <= 0) return 'overdue'
  return s < 60 ? `within ${s} s` : `within ${Math.ceil(s / 60)} min`
}

const full = new Intl.DateTimeFormat('sv-SE', { dateStyle: 'short', timeStyle: 'medium' })
const zone = Intl.DateTimeFormat().resolvedOptions().timeZone

/** A time as it is read here, with its zone. */
export const moment = (at?: string | null) => (at ? `${full.format(new Date(at))} ${zone}` : '–')

export const number = (n: number) => n.toLocaleString('en-GB')

export function bytes(n: number): string {
  const units = ['B', 'KiB', 'MiB', 'GiB', 'TiB']
  let i = 0
  while (n >= 1024 && i < units.length - 1) {
    n /= 1024
    i++
  }
  return `${i === 0 ? n : n.toFixed(1)} ${units[i]}`
}

/** How long something still takes, as people say it. */
export function inTime(seconds?: number | null): string {
  if (!seconds) return '–'
  if (seconds < 120) return `in ${seconds} s`
  if (seconds < 7200) return `in ${Math.floor(seconds / 60)} min`
  if (seconds < 72 * 3600) return `in ${Math.floor(seconds / 3600)} h`
  return `in ${Math.floor(seconds / 86400)} days`
}

export const plural = (n: number, one: string, many = `${one}s`) =>
  `${number(n)} ${n === 1 ? one : many}`

/** Begins a sentence with a capital, unless it begins with something that is not a word, such as a path or a field. */
export const sentence = (s?: string | null) =>
  s && /^[a-z]+(\s|,|;|:(?!\/\/)|$)/.test(s) ? s[0]!.toUpperCase() + s.slice(1) : (s ?? '')
