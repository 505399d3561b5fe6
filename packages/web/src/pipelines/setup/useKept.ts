import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { Definition } from '@tide/core/definition/definition'
import { useEffect, useRef, useState } from 'react'
import { api } from '../../api/client.ts'
import { putPipeline } from '../../api/live.ts'

const SAVE_AFTER_MS = 400

/** Keeps the definition on the server as it is typed (`kept`): makes the draft at the first edit, then writes every change. */
export function useKept(
  definition: Definition,
  present: string | undefined,
  begin: Definition,
  kept: boolean,
) {
  const [id, setId] = useState(present)
  const [saved, setSaved] = useState('')
  const [error, setError] = useState<unknown>()
  const written = useRef(JSON.stringify(begin))
  const writing = useRef<Promise<string | undefined>>(Promise.resolve(present))
  const latest = useRef(definition)
  useEffect(() => {
    latest.current = definition
  }, [definition])
  const write = (): Promise<string | undefined> => {
    writing.current = writing.current.then(async known => {
      const text = JSON.stringify(latest.current)
      if (text === written.current && known) return known
      const status = await api<PipelineStatus>(
        known ? 'PUT' : 'POST',
        known ? `/pipelines/${known}` : '/pipelines',
        latest.current,
      )
      written.current = text
      putPipeline(status)
      setId(status.id)
      setSaved('Saved.')
      setError(undefined)
      // The address follows without leaving the page.
      if (!known) window.history.replaceState(window.history.state, '', `/pipelines/${status.id}/change`)
      return status.id
    })
    const attempt = writing.current
    writing.current = attempt.catch(() => id)
    return attempt
  }
  const text = JSON.stringify(definition)
  useEffect(() => {
    if (!kept || text === written.current) return
    setSaved('')
    const timer = setTimeout(() => void write().catch(setError), SAVE_AFTER_MS)
    return () => clearTimeout(timer)
    // eslint-disable-next-line react-hooks/exhaustive-deps -- writes the newest definition, whenever it has changed
  }, [text, kept])
  return {
    id,
    saved,
    error,
    /** Writes what is not written yet; gives the pipeline's id. */
    flush: async (): Promise<string> => (kept ? (await write())! : present!),
  }
}
