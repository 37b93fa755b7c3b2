<template>
  <div ref="host" class="editor" data-editor />
</template>

<script setup lang="ts">
import { autocompletion, closeBrackets, completionKeymap } from '@codemirror/autocomplete'
import { defaultKeymap, history, historyKeymap, redo as redoLast, redoDepth, undo as undoLast, undoDepth } from '@codemirror/commands'
import { yaml } from '@codemirror/lang-yaml'
import { HighlightStyle, indentUnit, syntaxHighlighting } from '@codemirror/language'
import { lintGutter, setDiagnostics, type Diagnostic } from '@codemirror/lint'
import { EditorState, StateEffect, StateField, type Text } from '@codemirror/state'
import { Decoration, EditorView, keymap, lineNumbers, type DecorationSet } from '@codemirror/view'
import { tags } from '@lezer/highlight'
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'

import { complete, loadSchema } from '../document/complete'
import type { Schemas } from '../http'

const props = defineProps<{
  /** The document's text. */
  modelValue: string
  faults: Schemas['Fault'][]
  warnings: Schemas['Fault'][]
  /** Lines of the chosen part, from 1; null for none. */
  marked: { from: number; to: number } | null
  /** The fields that expressions on a line may name. */
  fields: (line: number) => { name: string; type: string }[]
}>()
const emit = defineEmits<{
  'update:modelValue': [text: string]
  /** The line of the cursor, from 1. */
  line: [line: number]
}>()

const host = ref<HTMLElement>()
let view: EditorView | undefined

const mark = StateEffect.define<{ from: number; to: number } | null>()
const marks = StateField.define<DecorationSet>({
  create: () => Decoration.none,
  update(value, tr) {
    let out = value.map(tr.changes)
    for (const e of tr.effects) {
      if (!e.is(mark)) continue
      out = Decoration.none
      if (e.value) {
        const lines = []
        for (let n = e.value.from; n <= Math.min(e.value.to, tr.state.doc.lines); n++) lines.push(Decoration.line({ class: 'cm-part' }).range(tr.state.doc.line(n).from))
        out = Decoration.set(lines)
      }
    }
    return out
  },
  provide: (f) => EditorView.decorations.from(f),
})

const colours = HighlightStyle.define([
  { tag: [tags.propertyName, tags.definition(tags.propertyName)], color: 'var(--sea)' },
  { tag: tags.comment, color: 'var(--soft)', fontStyle: 'italic' },
  { tag: [tags.string, tags.special(tags.string)], color: 'var(--amber)' },
])

function diagnostic(doc: Text, f: Schemas['Fault'], severity: 'error' | 'warning'): Diagnostic {
  const line = doc.line(Math.min(Math.max(1, f.line), doc.lines))
  const from = Math.min(line.to, line.from + Math.max(0, f.column - 1))
  const rest = /^[^\s,}\]]*/.exec(line.text.slice(from - line.from))
  return { from, to: Math.max(from, Math.min(line.to, from + (rest?.[0].length ?? 0))), severity, message: `${f.message}; ${f.fix}` }
}

function diagnose() {
  if (!view) return
  const doc = view.state.doc
  view.dispatch(setDiagnostics(view.state, [...props.faults.map((f) => diagnostic(doc, f, 'error')), ...props.warnings.map((f) => diagnostic(doc, f, 'warning'))]))
}

onMounted(() => {
  void loadSchema().catch(() => undefined) // completion stays away without it
  view = new EditorView({
    parent: host.value!,
    state: EditorState.create({
      doc: props.modelValue,
      extensions: [
        lineNumbers(), history(), closeBrackets(), yaml(), syntaxHighlighting(colours), indentUnit.of('  '), EditorState.tabSize.of(2), lintGutter(), marks,
        autocompletion({ icons: false, override: [complete((line) => props.fields(line))] }),
        keymap.of([...completionKeymap, ...defaultKeymap, ...historyKeymap]),
        EditorView.contentAttributes.of({ 'aria-label': 'Job document', tabindex: '0' }),
        EditorView.updateListener.of((u) => {
          if (u.docChanged) emit('update:modelValue', u.state.doc.toString())
          undoable.value = undoDepth(u.state) > 0
          redoable.value = redoDepth(u.state) > 0
          if (u.selectionSet || u.docChanged) emit('line', u.state.doc.lineAt(u.state.selection.main.head).number)
        }),
      ],
    }),
  })
  diagnose()
})
onBeforeUnmount(() => view?.destroy())

watch(
  () => props.modelValue,
  (text) => {
    if (!view || view.state.doc.toString() === text) return
    // Only what differs is changed, so that the cursor stays.
    const old = view.state.doc.toString()
    let from = 0
    while (from < old.length && from < text.length && old[from] === text[from]) from++
    let end = 0
    while (end < old.length - from && end < text.length - from && old[old.length - 1 - end] === text[text.length - 1 - end]) end++
    view.dispatch({ changes: { from, to: old.length - end, insert: text.slice(from, text.length - end) } })
  },
)
watch(() => [props.faults, props.warnings], diagnose)
watch(
  () => props.marked,
  (m) => view?.dispatch({ effects: mark.of(m) }),
)

/** Brings a line into sight and puts the cursor there. */
function show(line: number) {
  if (!view) return
  const at = view.state.doc.line(Math.min(Math.max(1, line), view.state.doc.lines)).from
  view.dispatch({ selection: { anchor: at }, effects: EditorView.scrollIntoView(at, { y: 'center' }) })
}
const undoable = ref(false)
const redoable = ref(false)
function undo() {
  if (view) undoLast(view)
}
function redo() {
  if (view) redoLast(view)
}
defineExpose({ show, undo, redo, undoable, redoable })
</script>

<style scoped>
.editor { border-top: 1px solid var(--line); margin: 0 -14px; }
.editor :deep(.cm-editor) { height: max(420px, calc(100vh - 210px)); font-size: 12px; background: var(--sheet); color: var(--ink); }
.editor :deep(.cm-scroller) { font-family: ui-monospace, 'DejaVu Sans Mono', monospace; line-height: 1.5; }
.editor :deep(.cm-gutters) { background: var(--sheet); color: var(--soft); border: 0; }
.editor :deep(.cm-cursor) { border-color: var(--ink); }
.editor :deep(.cm-selectionBackground), .editor :deep(.cm-focused .cm-selectionBackground) { background: var(--sea-soft) !important; }
.editor :deep(.cm-part) { background: color-mix(in srgb, var(--sea-soft) 55%, transparent); }
.editor :deep(.cm-tooltip) { background: var(--sheet); border: 1px solid var(--line); border-radius: 6px; color: var(--ink); }
.editor :deep(.cm-tooltip-autocomplete ul li[aria-selected]) { background: var(--sea-soft); color: var(--ink); }
.editor :deep(.cm-diagnostic-error) { border-left: 3px solid var(--brick); }
.editor :deep(.cm-diagnostic-warning) { border-left: 3px solid var(--amber); }
.editor :deep(.cm-focused) { outline: none; }
</style>
