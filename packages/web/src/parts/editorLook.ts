import { HighlightStyle } from '@codemirror/language'
import { tags } from '@lezer/highlight'
import { EditorView } from '@uiw/react-codemirror'

/** In the colours of the page, light or dark. */
export const EDITOR_LOOK = EditorView.theme({
  '&': { backgroundColor: 'var(--color-paper-3)', border: '1px solid var(--color-line-2)', fontSize: '12px' },
  '&.cm-focused': { outline: '2px solid var(--color-link)' },
  '.cm-content': { fontFamily: 'var(--font-mono)', caretColor: 'var(--color-ink)' },
  '.cm-cursor': { borderLeftColor: 'var(--color-ink)' },
  '.cm-gutters': { backgroundColor: 'var(--color-paper-2)', color: 'var(--color-ink-3)', border: 'none' },
  '.cm-activeLine, .cm-activeLineGutter': { backgroundColor: 'transparent' },
  '&.cm-focused .cm-selectionBackground, .cm-selectionBackground': {
    backgroundColor: 'var(--color-line) !important',
  },
  '.cm-tooltip': {
    backgroundColor: 'var(--color-paper-3)',
    border: '1px solid var(--color-line-2)',
    color: 'var(--color-ink)',
  },
  '.cm-tooltip-autocomplete ul li[aria-selected]': {
    backgroundColor: 'var(--color-paper-2)',
    color: 'var(--color-ink)',
  },
})

export const EDITOR_COLOURS = HighlightStyle.define([
  { tag: [tags.propertyName, tags.keyword], color: 'var(--color-link)' },
  { tag: tags.comment, color: 'var(--color-ink-3)' },
  { tag: tags.string, color: 'var(--color-ochre)' },
])
