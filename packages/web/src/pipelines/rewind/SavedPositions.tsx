import type { ReplicationStatus } from '@tide/core/api/pipelines'
import type { PositionsAnswer, SavedPositionAnswer } from '@tide/core/api/rewind'
import { useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { api } from '../../api/client.ts'
import { clock, moment } from '../../format.ts'
import { Button, TextButton } from '../../parts/Button.tsx'
import { ErrorNotice } from '../../parts/Notice.tsx'
import { positionsKey } from './usePositions.ts'

const KINDS: Record<SavedPositionAnswer['kind'], string> = {
  start: 'captured from here',
  copied: 'copied',
  pause: 'paused',
  stop: 'stopped',
  change: 'changed',
  rewind: 'rewound from here',
  mark: 'mark',
}

interface SavedPositionsProps {
  pipeline: ReplicationStatus
  saved: readonly SavedPositionAnswer[]
  choose: (text: string) => void
}

/** Positions that were kept, and how to keep the present one. */
export function SavedPositions({ pipeline, saved, choose }: SavedPositionsProps) {
  const [note, setNote] = useState('')
  const [error, setError] = useState<unknown>()
  const queries = useQueryClient()
  const keep = (answer: Promise<PositionsAnswer>) =>
    answer.then(
      all => {
        queries.setQueryData(positionsKey(pipeline.id), all)
        setNote('')
        setError(undefined)
      },
      (failed: unknown) => setError(failed),
    )
  return (
    <section className="mt-4" aria-label="Saved positions">
      <h3 className="text-[13px] font-semibold">Saved positions</h3>
      <div className="mt-1 max-h-52 overflow-y-auto border-y border-line">
        <table className="w-full table-fixed text-[13px]">
          <colgroup>
            <col className="w-36" />
            <col className="w-32" />
            <col className="w-52" />
            <col />
            <col className="w-24" />
          </colgroup>
          <tbody>
            {saved.map(one => (
              <tr key={one.id} className="border-b border-line last:border-0">
                <td className="py-1 pr-3 whitespace-nowrap" title={moment(one.at)}>
                  {moment(one.at)}
                </td>
                <td className="pr-3 whitespace-nowrap text-ink-2">{KINDS[one.kind]}</td>
                <td className="pr-3 font-mono text-[12px]">
                  <span className="block truncate" title={one.position}>
                    {one.position}
                  </span>
                </td>
                <td className="pr-3">
                  <span className="block truncate" title={one.note ?? ''}>
                    {one.note}
                  </span>
                </td>
                <td className="text-right whitespace-nowrap">
                  {one.kind === 'mark' && (
                    <TextButton
                      className="mr-3 text-[12px]"
                      aria-label={`Forget the mark ${one.note}`}
                      onClick={() => void keep(api('DELETE', `/pipelines/${pipeline.id}/marks/${one.id}`))}
                    >
                      Forget
                    </TextButton>
                  )}
                  {one.held ? (
                    <TextButton
                      className="text-[12px]"
                      aria-label={`To ${one.position}, ${KINDS[one.kind]} ${clock(one.at)}`}
                      onClick={() => choose(one.position)}
                    >
                      To here
                    </TextButton>
                  ) : (
                    <span className="text-[12px] text-ink-3" title="not in the journal any more">
                      gone
                    </span>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        {saved.length === 0 && (
          <p className="py-1.5 text-[13px] text-ink-2">
            {pipeline.origins.length > 0
              ? 'Choose an origin to see where it stood at its start, at pauses and stops.'
              : 'None yet: they are kept at the start, at pauses, stops and rewinds.'}
          </p>
        )}
      </div>
      <form
        className="mt-2 flex items-center gap-2"
        onSubmit={event => {
          event.preventDefault()
          void keep(api('POST', `/pipelines/${pipeline.id}/marks`, { note: note.trim() }))
        }}
      >
        <input
          aria-label="A note for the present position"
          placeholder="Keep the present position: before the harvest"
          value={note}
          maxLength={200}
          onChange={({ target }) => setNote(target.value)}
          className="flex-1 rounded-sm border border-line-2 bg-paper px-2 py-0.5 text-[13px]"
        />
        <Button type="submit" disabled={note.trim() === ''}>
          Set a mark
        </Button>
      </form>
      <ErrorNotice error={error} />
    </section>
  )
}
