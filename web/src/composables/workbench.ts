import { computed, reactive, ref, toRefs, watch } from 'vue'
import { client, take, type Schemas } from '../api/client'
import { documents } from './documents'

export type Candidate = Schemas['FormatCandidate']
export type Tried = Schemas['TriedLog']
export type Row = Schemas['TriedRecord']
export type Part = 'format' | 'source' | 'masks'

/** How many records are told of; counts are over all. */
const most = 2000
const wait = { guess: 250, run: 40 }

/** What stands on the bench. It outlives the page, and nothing else: lines are never kept. */
const bench = reactive({
  lines: '',
  from: '', // where they come from, in words
  modified: undefined as string | undefined, // when their file was last written: dates without a year are measured by it
  encoding: '', // of their bytes there; '' for utf-8
  zone: '',
  host: '',
  draft: 0,
  name: 'new-log', // of what is made here
  format: '',
  source: '',
  masks: '',
  chosen: -1, // candidate
  auto: true, // the best candidate is taken as lines come; not when a definition was opened, or the format edited
  part: 'format' as Part,
})
const candidates = ref<Candidate[]>([])
const tried = ref<Tried>()
const hits = ref<Schemas['PrivateHit'][]>([])
const error = ref('')
const took = ref(0)
const busy = ref(false)

export const count = (text: string) => (text ? text.replace(/\n$/, '').split('\n').length : 0)

/** A source around a format, to begin with. */
const sourceText = (name: string, format: string, begin?: string, to?: string) =>
  `source: ${name}\nhosts: all\nread:\n  files: [/var/log/${name}/*.log]\n${bench.encoding ? `  encoding: ${bench.encoding}\n` : ''}${begin ? `records: {begin: '${begin.replace(/'/g, "''")}'}\n` : ''}format: ${format}\nsteps: []\nsend: [{to: ${to ?? 'harbour-archive'}}]\n`

let guessing = 0
let running = 0
const timers: { guess?: ReturnType<typeof setTimeout>; run?: ReturnType<typeof setTimeout> } = {}
let destination: string | undefined

async function guess() {
  const mine = ++guessing
  if (!bench.lines.trim()) {
    candidates.value = []
    tried.value = undefined
    hits.value = []
    return
  }
  try {
    const [g, s] = await Promise.all([
      take(
        client.POST('/workbench/guess', {
          body: {
            log: bench.lines,
            name: bench.name,
            zone: bench.zone || undefined,
            modified: bench.modified,
          },
        }),
      ),
      take(client.POST('/workbench/scan', { body: { log: bench.lines } })),
    ])
    if (mine !== guessing) return
    candidates.value = g.candidates
    hits.value = s.hits
    error.value = ''
    if (bench.auto) choose(0)
    else void run()
  } catch (e) {
    if (mine === guessing) error.value = e instanceof Error ? e.message : String(e)
  }
}

/** Takes a candidate: its format, and a source around it. */
function choose(i: number) {
  const c = candidates.value[i]
  if (!c) return
  bench.chosen = i
  bench.auto = true
  bench.format = c.definition
  if (!bench.source || documents(bench.source)[0]?.name === bench.name) {
    const steps = /^steps:[\s\S]*?(?=^\S(?!teps))/m.exec(bench.source)?.[0]
    bench.source = sourceText(bench.name, bench.name, c.begin, destination)
    if (steps) bench.source = bench.source.replace(/^steps: \[\]\n/m, steps)
  }
}

async function run() {
  const mine = ++running
  const source = documents(bench.source)[0]
  const format = documents(bench.format)[0]
  if (!bench.lines.trim() || (!source && !format)) return
  busy.value = true
  const began = performance.now()
  try {
    const t = await take(
      client.POST('/workbench/try', {
        body: {
          log: bench.lines,
          definitions: [bench.format, bench.masks, bench.source]
            .filter((x) => x.trim())
            .join('---\n'),
          draft: bench.draft || undefined,
          zone: bench.zone || undefined,
          modified: bench.modified,
          host: bench.host || undefined,
          most,
          ...(source ? { source: source.name } : { format: format!.name }),
        },
      }),
    )
    if (mine !== running) return
    if (t.problems.length && tried.value)
      tried.value = { ...tried.value, problems: t.problems } // what was read last stays while a text is half written
    else tried.value = t
    took.value = Math.round(performance.now() - began)
    error.value = ''
  } catch (e) {
    if (mine === running) error.value = e instanceof Error ? e.message : String(e)
  } finally {
    if (mine === running) busy.value = false
  }
}

watch(
  () => bench.format,
  (now) => {
    if (bench.chosen >= 0 && now !== candidates.value[bench.chosen]?.definition)
      Object.assign(bench, { chosen: -1, auto: false })
  },
)
watch(
  () => [bench.lines, bench.zone, bench.encoding],
  () => {
    clearTimeout(timers.guess)
    timers.guess = setTimeout(() => void guess(), wait.guess)
  },
)
watch(
  () => [bench.lines, bench.zone, bench.format, bench.source, bench.masks, bench.host, bench.draft],
  () => {
    clearTimeout(timers.run)
    timers.run = setTimeout(() => void run(), wait.run)
  },
)

/** The lines of a file as a host would read them, which finds out the encoding of what is not UTF-8, and unpacks gzip. */
async function readFile(file: File, limit: number) {
  const bytes = new Uint8Array(await file.slice(0, limit).arrayBuffer())
  let cut = file.size > limit
  let [log, encoding] = ['', '']
  try {
    if (bytes.includes(0)) throw new TypeError('not UTF-8')
    log = new TextDecoder('utf-8', { fatal: true }).decode(
      cut ? bytes.subarray(0, bytes.lastIndexOf(10) + 1) : bytes,
    )
  } catch {
    const got = await take(client.POST('/workbench/text', { body: { bytes: base64(bytes) } }))
    log = got.log
    cut = cut || got.more
    encoding = got.encoding === 'utf-8' ? '' : got.encoding
  }
  Object.assign(bench, {
    lines: cut ? log.slice(0, log.lastIndexOf('\n') + 1) : log,
    encoding,
    modified: new Date(file.lastModified).toISOString(),
  })
  return cut
}

const base64 = (bytes: Uint8Array) => {
  const parts: string[] = []
  for (let i = 0; i < bytes.length; i += 0x8000)
    parts.push(String.fromCharCode(...bytes.subarray(i, i + 0x8000)))
  return btoa(parts.join(''))
}

/** Changes one value of the text of a part; every other byte stays. */
async function splice(part: Part, path: string[], value: unknown) {
  try {
    bench[part] = (
      await take(client.POST('/splice', { body: { text: bench[part], path, value } }))
    ).text
    error.value = ''
  } catch (e) {
    error.value = e instanceof Error ? e.message : String(e)
  }
}

/** The template of the format at hand; "" when it is none. */
export const template = (text: string) => {
  const m = /^template:\s*(?:'((?:[^']|'')*)'|"((?:[^"\\]|\\.)*)"|(.*))$/m.exec(text)
  return m
    ? (m[1]?.replace(/''/g, "'") ??
        (m[2] !== undefined ? (JSON.parse(`"${m[2]}"`) as string) : m[3]?.trim()) ??
        '')
    : ''
}

/** Makes a part of a line a field of the template; a format that is no template becomes one. */
async function carve(line: string, start: number, end: number, name: string, type?: string) {
  try {
    const t = template(bench.format)
    const got = await take(
      client.POST('/workbench/field', {
        body: { template: t, line, start, end, name, type: type || undefined },
      }),
    )
    if (t) await splice('format', ['template'], got.template)
    else bench.format = `format: ${bench.name}\ntemplate: '${got.template.replace(/'/g, "''")}'\n`
    bench.chosen = -1
    error.value = ''
    return true
  } catch (e) {
    error.value = e instanceof Error ? e.message : String(e)
    return false
  }
}

/** Definitions of the catalogue, or of a draft, put on the bench. */
async function open(kind: string, name: string, draft: number) {
  const get = async (k: string, n: string) => {
    if (draft) {
      const d = await take(
        client.GET('/drafts/{draft}/definitions/{kind}/{name}', {
          params: { path: { draft, kind: k, name: n } },
        }),
      )
      return d.text || d.published
    }
    return (
      await take(client.GET('/catalogue/{kind}/{name}', { params: { path: { kind: k, name: n } } }))
    ).text
  }
  try {
    bench.draft = draft
    bench.chosen = -1
    bench.auto = false
    bench.masks = ''
    bench.name = name
    if (kind === 'format') {
      bench.source = ''
      bench.format = await get('format', name)
      bench.part = 'format'
      return
    }
    bench.source = await get('source', name)
    const format = /^format:\s*([a-z0-9-]+)/m.exec(bench.source)?.[1] ?? ''
    bench.format = await get('format', format).catch(() => '') // a built-in one
    bench.part = 'source'
  } catch (e) {
    error.value = e instanceof Error ? e.message : String(e)
  }
}

function clear() {
  Object.assign(bench, {
    lines: '',
    from: '',
    modified: undefined,
    encoding: '',
    zone: '',
    host: '',
    draft: 0,
    name: 'new-log',
    format: '',
    source: '',
    masks: '',
    chosen: -1,
    auto: true,
    part: 'format',
  })
}

export function useWorkbench() {
  if (!destination)
    void take(client.GET('/coverage'))
      .then((c) => {
        const uses = new Map<string, number>()
        for (const to of c.sources.flatMap((s) => s.to)) uses.set(to, (uses.get(to) ?? 0) + 1)
        destination = [...uses].sort((a, b) => b[1] - a[1])[0]?.[0]
      })
      .catch(() => undefined)
  const lineCount = computed(() => count(bench.lines))
  return {
    ...toRefs(bench),
    bench,
    candidates,
    tried,
    hits,
    error,
    took,
    busy,
    lineCount,
    choose,
    run,
    splice,
    carve,
    open,
    clear,
    readFile,
  }
}
