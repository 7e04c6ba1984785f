<script setup lang="ts">
import type { CompletionSource } from '@codemirror/autocomplete'
import { EditorState } from '@codemirror/state'
import { EditorView } from '@codemirror/view'
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'
import type { Schemas } from '../api/client'
import { marks, setDiagnostics, writing } from '../composables/editor'

/** An editor for one definition, with completion and findings at their lines. */
const text = defineModel<string>({ required: true })
const props = defineProps<{
  findings: Schemas['Finding'][]
  complete: CompletionSource
  label: string
}>()
const emit = defineEmits<{ place: [position: number] }>()
const at = ref<HTMLElement>()
let view: EditorView | undefined

onMounted(() => {
  view = new EditorView({
    parent: at.value,
    state: EditorState.create({
      doc: text.value,
      extensions: [
        ...writing({ override: [props.complete], icons: false }),
        EditorView.contentAttributes.of({ 'aria-label': props.label }),
        EditorView.updateListener.of((u) => {
          if (u.docChanged) text.value = u.state.doc.toString()
          if (u.docChanged || u.selectionSet) emit('place', u.state.selection.main.head)
        }),
      ],
    }),
  })
  show()
})
onBeforeUnmount(() => view?.destroy())

// A text from elsewhere, such as the form, replaces only what differs, so that the cursor stays where it is.
watch(text, (now) => {
  const had = view?.state.doc.toString() ?? now
  if (!view || had === now) return
  let from = 0
  while (from < had.length && from < now.length && had[from] === now[from]) from++
  let end = 0
  while (
    end < had.length - from &&
    end < now.length - from &&
    had[had.length - 1 - end] === now[now.length - 1 - end]
  )
    end++
  view.dispatch({
    changes: { from, to: had.length - end, insert: now.slice(from, now.length - end) },
  })
})

function show() {
  if (view) view.dispatch(setDiagnostics(view.state, marks(view.state.doc, props.findings)))
}
watch(() => props.findings, show)

/** Puts the cursor on a line. */
function go(line: number) {
  if (!view) return
  const l = view.state.doc.line(Math.min(Math.max(line, 1), view.state.doc.lines))
  view.dispatch({ selection: { anchor: l.from }, scrollIntoView: true })
  view.focus()
}
defineExpose({ go })
</script>

<template><div ref="at" class="[&_.cm-editor]:max-h-[70vh] [&_.cm-editor]:min-h-72" /></template>
