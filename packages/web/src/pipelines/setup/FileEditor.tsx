import { completionsAt, type FileSchema } from '@tide/core/definition/complete'
import { autocompletion, type CompletionContext, type CompletionResult } from '@codemirror/autocomplete'
import { yaml } from '@codemirror/lang-yaml'
import { syntaxHighlighting } from '@codemirror/language'
import { useQuery } from '@tanstack/react-query'
import CodeMirror, { EditorView } from '@uiw/react-codemirror'
import { useMemo } from 'react'
import { api } from '../../api/client.ts'
import { EDITOR_COLOURS, EDITOR_LOOK } from '../../parts/editorLook.ts'

interface FileEditorProps {
  label: string
  value: string
  /** Names of connections. */
  connections: readonly string[]
  change: (text: string) => void
  leave: () => void
}

/** A setup as text: what can stand at a place is offered by the schema of such files (Ctrl+Space, or while typing). */
export default function FileEditor({ label, value, connections, change, leave }: FileEditorProps) {
  const { data: schema } = useQuery({
    queryKey: ['schemas', 'pipeline-file'],
    queryFn: () => api<FileSchema>('GET', '/schemas/pipeline-file'),
    staleTime: Infinity,
  })
  const names = connections.join('\n')
  const extensions = useMemo(() => {
    const offers = ({ state, pos, explicit }: CompletionContext): CompletionResult | null => {
      if (!schema) return null
      const found = completionsAt(state.doc.toString(), pos, schema, names === '' ? [] : names.split('\n'))
      if (!found || (!explicit && found.from === pos)) return null
      const options = found.options.map(({ text, what, says }) => ({
        label: text,
        apply: what === 'field' && !text.startsWith('{') ? `${text}: ` : text,
        detail: says,
      }))
      return { from: found.from, options }
    }
    return [
      yaml(),
      autocompletion({ override: [offers], icons: false }),
      EditorView.lineWrapping,
      EditorView.contentAttributes.of({ 'aria-label': label }),
      syntaxHighlighting(EDITOR_COLOURS),
      EDITOR_LOOK,
    ]
  }, [schema, names, label])
  return (
    <CodeMirror
      value={value}
      theme="none"
      minHeight="300px"
      maxHeight="60vh"
      extensions={extensions}
      basicSetup={{
        autocompletion: false,
        foldGutter: false,
        highlightActiveLine: false,
        syntaxHighlighting: false,
      }}
      onChange={change}
      onBlur={leave}
    />
  )
}
