import { Prec } from '@codemirror/state'
import { PostgreSQL, sql } from '@codemirror/lang-sql'
import { syntaxHighlighting } from '@codemirror/language'
import CodeMirror, { EditorView, keymap } from '@uiw/react-codemirror'
import { useMemo } from 'react'
import { EDITOR_COLOURS, EDITOR_LOOK } from './editorLook.ts'

interface SqlEditorProps {
  label: string
  value: string
  /** By schema and table, the columns: what is offered while one types. */
  tables: Record<string, Record<string, string[]>>
  change: (text: string) => void
  /** Ctrl+Enter. */
  run: () => void
}

/** SQL with what the connection has, offered while one types or by Ctrl+Space. */
export default function SqlEditor({ label, value, tables, change, run }: SqlEditorProps) {
  const known = JSON.stringify(tables)
  const extensions = useMemo(
    () => [
      // Before the editor's own keys.
      Prec.highest(keymap.of([{ key: 'Mod-Enter', run: () => (run(), true) }])),
      sql({ dialect: PostgreSQL, schema: JSON.parse(known) as SqlEditorProps['tables'] }),
      EditorView.lineWrapping,
      EditorView.contentAttributes.of({ 'aria-label': label }),
      syntaxHighlighting(EDITOR_COLOURS),
      EDITOR_LOOK,
    ],
    [known, label, run],
  )
  return (
    <CodeMirror
      value={value}
      theme="none"
      minHeight="110px"
      maxHeight="40vh"
      extensions={extensions}
      basicSetup={{ foldGutter: false, highlightActiveLine: false, syntaxHighlighting: false }}
      onChange={change}
    />
  )
}
