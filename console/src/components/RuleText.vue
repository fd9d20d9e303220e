<script setup lang="ts">
import { defaultKeymap, history, historyKeymap, indentWithTab } from '@codemirror/commands'
import { StreamLanguage, defaultHighlightStyle, syntaxHighlighting } from '@codemirror/language'
import { toml } from '@codemirror/legacy-modes/mode/toml'
import { lintGutter, setDiagnostics, type Diagnostic } from '@codemirror/lint'
import { EditorState } from '@codemirror/state'
import { EditorView, drawSelection, highlightActiveLine, keymap, lineNumbers } from '@codemirror/view'
import { onBeforeUnmount, onMounted, useTemplateRef, watch } from 'vue'
import type { Schemas } from '@/api/client'

/** An editor for a rule file that underlines its errors. */
const props = defineProps<{ name: string; faults: Schemas['Fault'][] }>()
const text = defineModel<string>({ required: true })
const host = useTemplateRef<HTMLElement>('host')
let view: EditorView | undefined

function diagnostics(state: EditorState): Diagnostic[] {
  return props.faults.map((fault) => {
    const line = state.doc.line(Math.min(Math.max(fault.line, 1), state.doc.lines))
    const from = Math.min(line.from + fault.column - 1, line.to)
    // To the end of the word, or else of the line.
    const rest = /^[\w.]+/.exec(state.sliceDoc(from, line.to))?.[0].length ?? line.to - from
    return {
      from,
      to: Math.max(Math.min(from + Math.max(rest, 1), line.to), from),
      severity: fault.severity === 'error' ? 'error' : 'warning',
      message: fault.help ? `${fault.message}. To do: ${fault.help}` : fault.message,
    }
  })
}

function mark() {
  if (view) view.dispatch(setDiagnostics(view.state, diagnostics(view.state)))
}

function fresh(): EditorState {
  return EditorState.create({
    doc: text.value,
    extensions: [
      lineNumbers(),
      history(),
      drawSelection(),
      highlightActiveLine(),
      lintGutter(),
      StreamLanguage.define(toml),
      syntaxHighlighting(defaultHighlightStyle, { fallback: true }),
      // Escape and then Tab leaves the field (the editor's default keys).
      keymap.of([...defaultKeymap, ...historyKeymap, indentWithTab]),
      EditorView.lineWrapping,
      EditorView.contentAttributes.of({ 'aria-label': `Text of ${props.name}` }),
      EditorView.updateListener.of((update) => {
        if (update.docChanged) text.value = update.state.doc.toString()
      }),
    ],
  })
}

onMounted(() => {
  if (host.value) view = new EditorView({ state: fresh(), parent: host.value })
  // Scrollable with the keyboard.
  if (view) view.scrollDOM.tabIndex = 0
  mark()
})
onBeforeUnmount(() => view?.destroy())
watch(() => props.faults, mark, { deep: true })
watch([() => props.name, text], () => {
  // Typed text is already in the editor; anything else is another file, or an edit by others.
  if (view && view.state.doc.toString() !== text.value) {
    view.setState(fresh())
    mark()
  }
})

defineExpose({
  /** Scrolls to a line and places the cursor there. */
  show(line: number) {
    if (!view) return
    const at = view.state.doc.line(Math.min(Math.max(line, 1), view.state.doc.lines)).from
    view.dispatch({ selection: { anchor: at }, effects: EditorView.scrollIntoView(at, { y: 'center' }) })
    view.focus()
  },
})
</script>

<template>
  <div ref="host" class="host" />
</template>

<style scoped>
.host {
  border: 1px solid var(--line);
  background: var(--sheet);
}
.host :deep(.cm-editor) {
  height: 17rem;
  font-size: 0.86rem;
}
.host :deep(.cm-scroller) {
  font-family: var(--mono);
}
.host :deep(.cm-gutters) {
  background: var(--paper);
  color: var(--faint);
  border-right: 1px solid var(--line);
}
.host :deep(.cm-activeLine) {
  background: color-mix(in srgb, var(--lamp) 12%, transparent);
}
.host :deep(.cm-content) {
  caret-color: var(--ink);
}
@media (prefers-color-scheme: dark) {
  .host :deep(.cm-line span) {
    filter: brightness(1.9) saturate(0.7);
  }
  .host :deep(.cm-tooltip) {
    background: var(--sheet);
    color: var(--ink);
  }
}
</style>
