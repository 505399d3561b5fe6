import type { ConnectionInfo } from '@tide/core/api/connections'
import type { FileAnswer } from '@tide/core/api/files'
import { asReplication, type ReplicateDefinition } from '@tide/core/definition/definition'
import { fileOf, printFile } from '@tide/core/definition/file'
import { lazy, Suspense, useEffect, useRef, useState } from 'react'
import { api } from '../../api/client.ts'
import { save } from '../../api/save.ts'
import { TextButton } from '../../parts/Button.tsx'
import { ErrorNotice } from '../../parts/Notice.tsx'
import { Section, type Turning } from './Section.tsx'

const FileEditor = lazy(() => import('./FileEditor.tsx'))

interface FileSectionProps extends Turning {
  definition: ReplicateDefinition
  connections: readonly ConnectionInfo[]
  change: (part: ReplicateDefinition) => void
}

/** While somebody types, it is not read at every letter. */
const READ_AFTER_MS = 400

/** The same setup as text: what is changed in one is changed in the other. */
export function FileSection({ definition, connections, change, ...turning }: FileSectionProps) {
  return (
    <Section
      {...turning}
      name="file"
      title="As a file"
      says="the whole setup as YAML, to edit, keep and bring back"
    >
      <FileText definition={definition} connections={connections} change={change} />
    </Section>
  )
}

function FileText({ definition, connections, change }: FileSectionProps) {
  const printed = printFile(fileOf(definition, id => connections.find(one => one.id === id)?.name))
  /** What was typed and is not what the form says; undefined: nothing. */
  const [typed, setTyped] = useState<string>()
  /** The last text that was read. */
  const [read, setRead] = useState<string>()
  const [error, setError] = useState<unknown>()
  const readNow = async (text: string) => {
    try {
      const { definition } = await api<FileAnswer>('POST', '/files/read', { text })
      setError(undefined)
      change(asReplication(definition))
    } catch (failed) {
      setError(failed)
    }
    setRead(text)
  }
  const latest = useRef(readNow)
  useEffect(() => {
    latest.current = readNow
  })
  useEffect(() => {
    if (typed === undefined || typed === read) return
    const timer = setTimeout(() => void latest.current(typed), READ_AFTER_MS)
    return () => clearTimeout(timer)
  }, [typed, read])
  /** Whoever goes elsewhere has said what they wanted to say. */
  const leave = () => {
    if (typed === undefined) return
    if (typed !== read) void readNow(typed)
    else if (error === undefined) setTyped(undefined)
  }
  const open = async (file: File | undefined) => {
    if (file) setTyped(await file.text())
  }
  return (
    <>
      <Suspense fallback={<div className="h-75" />}>
        <FileEditor
          label="The setup as a file"
          value={typed ?? printed}
          connections={connections.map(({ name }) => name)}
          change={setTyped}
          leave={leave}
        />
      </Suspense>
      <p className="mt-1 text-[12px] text-ink-2">
        YAML or JSON; connections are named. Ctrl+Space shows what can stand at a place. While the text cannot
        be read, the form stays as it was.
      </p>
      <ErrorNotice error={error} />
      <p className="mt-2 flex items-baseline gap-4 text-[13px]">
        <TextButton onClick={() => save(`${definition.name || 'pipeline'}.yaml`, printed)}>
          Save as a file
        </TextButton>
        <label className="text-ink-2">
          Bring in a file{' '}
          <input
            type="file"
            accept=".yaml,.yml,.json"
            onChange={event => void open(event.target.files?.[0])}
          />
        </label>
        {error !== undefined && (
          <TextButton
            onClick={() => {
              setTyped(undefined)
              setError(undefined)
            }}
          >
            Back to what the form says
          </TextButton>
        )}
      </p>
    </>
  )
}
