<script setup lang="ts">
import { MergeView } from '@codemirror/merge'
import { EditorState } from '@codemirror/state'
import { EditorView } from '@codemirror/view'
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { reading } from '../composables/editor'

/** Two texts side by side, unchanged parts folded. */
const props = defineProps<{ before: string; after: string; left: string; right: string }>()
const at = ref<HTMLElement>()
let view: MergeView | undefined

function show() {
  view?.destroy()
  const side = (doc: string, label: string) => ({
    doc,
    extensions: [
      ...reading,
      EditorState.readOnly.of(true),
      EditorView.editable.of(false),
      EditorView.contentAttributes.of({ 'aria-label': label }),
    ],
  })
  view = new MergeView({
    parent: at.value!,
    a: side(props.before, props.left),
    b: side(props.after, props.right),
    collapseUnchanged: { margin: 3, minSize: 6 },
    gutter: false,
  })
}
onMounted(show)
watch(() => [props.before, props.after], show)
onBeforeUnmount(() => view?.destroy())
</script>

<template>
  <div>
    <div class="grid grid-cols-2 gap-4 pb-1 text-table text-soft">
      <span>{{ left }}</span><span>{{ right }}</span>
    </div>
    <div ref="at" class="[&_.cm-mergeViewEditors]:gap-4" />
  </div>
</template>
