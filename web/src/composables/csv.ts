/** A value as CSV has it (RFC 4180); a text that a spreadsheet would take for a formula is marked as text. */
export const cell = (s: string) =>
  `"${(/^[=+\-@\t\r]/.test(s) ? `'${s}` : s).replaceAll('"', '""')}"`

/** Gives a text to the browser as a file. */
export function download(name: string, text: string, type = 'text/csv') {
  const a = document.createElement('a')
  a.href = URL.createObjectURL(new Blob([text], { type }))
  a.download = name
  a.click()
  URL.revokeObjectURL(a.href)
}

type Host = { host: string; labels: Record<string, string>; settings: Record<string, string> }

/** Hosts as a list that import reads. A value is as it is: an import must give back what was exported. */
export function hostList(hosts: Host[]): string {
  const keys = (of: (h: Host) => Record<string, string>) =>
    [...new Set(hosts.flatMap((h) => Object.keys(of(h))))].sort()
  const labels = keys((h) => h.labels)
  const settings = keys((h) => h.settings)
  const plain = (s: string) => (/[",\n\r]|^\s|\s$/.test(s) ? `"${s.replaceAll('"', '""')}"` : s)
  const rows = [
    ['host', ...labels.map((k) => `label.${k}`), ...settings.map((k) => `setting.${k}`)],
    ...hosts.map((h) => [
      h.host,
      ...labels.map((k) => h.labels[k] ?? ''),
      ...settings.map((k) => h.settings[k] ?? ''),
    ]),
  ]
  return rows.map((r) => r.map(plain).join(',') + '\n').join('')
}
