import {
  autocompletion,
  closeBrackets,
  closeBracketsKeymap,
  completionKeymap,
} from '@codemirror/autocomplete'
import { defaultKeymap, history, historyKeymap, indentWithTab } from '@codemirror/commands'
import { yaml } from '@codemirror/lang-yaml'
import {
  bracketMatching,
  HighlightStyle,
  indentUnit,
  syntaxHighlighting,
} from '@codemirror/language'
import { lintGutter, setDiagnostics, type Diagnostic } from '@codemirror/lint'
import type { Extension, Text } from '@codemirror/state'
import {
  drawSelection,
  EditorView,
  highlightActiveLine,
  keymap,
  lineNumbers,
} from '@codemirror/view'
import { tags } from '@lezer/highlight'
import type { Schemas } from '../api/client'

/** The look of code: keys in ink, comments soft, nothing loud. */
const theme = EditorView.theme({
  '&': {
    backgroundColor: 'var(--sheet)',
    color: 'var(--ink)',
    fontSize: '13px',
    border: '1px solid var(--line)',
    borderRadius: '6px',
  },
  '&.cm-focused': { outline: '2px solid var(--accent)', outlineOffset: '1px' },
  '.cm-scroller': {
    fontFamily: 'var(--font-mono, "JetBrains Mono"), "JetBrains Mono", monospace',
    lineHeight: '1.5',
    fontVariantLigatures: 'none',
  },
  '.cm-gutters': { backgroundColor: 'var(--sheet)', color: 'var(--soft)', border: 'none' },
  '.cm-activeLine, .cm-activeLineGutter': { backgroundColor: 'var(--sunk)' },
  '.cm-cursor': { borderLeftColor: 'var(--ink)' },
  '&.cm-focused .cm-selectionBackground, .cm-selectionBackground': {
    backgroundColor: 'color-mix(in srgb, var(--accent) 22%, transparent) !important',
  },
  '.cm-tooltip': {
    backgroundColor: 'var(--sheet)',
    color: 'var(--ink)',
    border: '1px solid var(--line)',
    borderRadius: '6px',
    fontSize: '13px',
  },
  '.cm-tooltip-autocomplete > ul > li[aria-selected]': {
    backgroundColor: 'var(--accent)',
    color: 'var(--accent-ink)',
  },
  '.cm-completionInfo': { maxWidth: '24rem', padding: '8px 12px', fontFamily: 'Inter, sans-serif' },
  '.cm-diagnostic': { borderLeftWidth: '3px', padding: '4px 10px' },
  '.cm-diagnostic-error': { borderLeftColor: 'var(--failing)' },
  '.cm-diagnostic-warning': { borderLeftColor: 'var(--degraded)' },
  '.cm-diagnostic-info': { borderLeftColor: 'var(--line)' },
  '.cm-lint-marker': {
    content: 'none',
    width: '1em',
    height: '1.5em',
    lineHeight: '1.5em',
    fontSize: '11px',
    textAlign: 'center',
  },
  '.cm-lint-marker-error': { content: 'none' },
  '.cm-lint-marker-warning': { content: 'none' },
  '.cm-lint-marker-info': { content: 'none' },
  '.cm-lint-marker-error::before': { content: '"✖"', color: 'var(--failing)' },
  '.cm-lint-marker-warning::before': { content: '"▲"', color: 'var(--degraded)' },
  '.cm-lint-marker-info::before': { content: '"·"', color: 'var(--soft)' },
  '.cm-changedLine, .cm-insertedLine': { backgroundColor: 'var(--plus) !important' },
  '&.cm-merge-a .cm-changedLine, .cm-deletedChunk': { backgroundColor: 'var(--minus) !important' },
  '.cm-changedText': {
    background: 'none !important',
    boxShadow: 'inset 0 -2px 0 var(--soft)',
  },
  '.cm-collapsedLines': { background: 'var(--sunk)', color: 'var(--soft)', padding: '4px 12px' },
  '.cm-collapsedLines::before, .cm-collapsedLines::after': { display: 'none' },
})

const highlight = HighlightStyle.define([
  {
    tag: [tags.propertyName, tags.definition(tags.propertyName)],
    fontWeight: '500',
    color: 'var(--ink)',
  },
  { tag: tags.comment, color: 'var(--soft)', fontStyle: 'italic' },
  { tag: [tags.string, tags.content], color: 'var(--waiting)' },
  { tag: [tags.number, tags.bool, tags.null], color: 'var(--accent)' },
])

/** What every view of YAML has. */
export const reading: Extension[] = [
  theme,
  yaml(),
  syntaxHighlighting(highlight),
  lineNumbers(),
  EditorView.lineWrapping,
]

/** What an editor has beyond that. Tab indents; Escape, then Tab, leaves. */
export const writing = (complete: Parameters<typeof autocompletion>[0]): Extension[] => [
  ...reading,
  history(),
  drawSelection(),
  bracketMatching(),
  closeBrackets(),
  highlightActiveLine(),
  indentUnit.of('  '),
  lintGutter(),
  autocompletion(complete),
  keymap.of([
    ...closeBracketsKeymap,
    ...completionKeymap,
    ...historyKeymap,
    ...defaultKeymap,
    indentWithTab,
  ]),
]

const grades = { error: 'error', warning: 'warning', note: 'info' } as const

/** Findings as marks at their lines. */
export function marks(doc: Text, findings: Schemas['Finding'][]) {
  const out: Diagnostic[] = findings.map((f) => {
    const line = doc.line(Math.min(Math.max(f.line, 1), doc.lines))
    const from = Math.min(line.from + Math.max(f.column - 1, 0), line.to)
    const word = /^[^\s,:}\]]+/.exec(doc.sliceString(from, line.to))?.[0].length ?? 0
    return {
      from,
      to: Math.max(from + word, from),
      severity: grades[f.severity],
      message: f.fix ? `${f.reason}\n${f.fix}` : f.reason,
      source: f.code,
    }
  })
  return out.sort((a, b) => a.from - b.from)
}

export { setDiagnostics }
