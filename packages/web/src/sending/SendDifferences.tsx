import type { SendForeseen } from '@tide/core/api/send'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { useOutletContext } from 'react-router'
import { api } from '../api/client.ts'
import { duration, plural } from '../format.ts'
import { Button, TextButton } from '../parts/Button.tsx'
import { FindField } from '../parts/Field.tsx'
import { ErrorNotice, Notice } from '../parts/Notice.tsx'
import { send } from './deeds.ts'
import { ForeseenFigures, Meets, Reasons } from './Foreseen.tsx'
import { HeldDeeds } from './HeldDeeds.tsx'
import { SendRows } from './SendRows.tsx'
import type { SendingStatus } from './status.ts'

/** What a run would do at this moment; one row of it can be tried alone. */
export function SendDifferences() {
  const { id, state, definition } = useOutletContext<SendingStatus>()
  const [find, setFind] = useState('')
  const [error, setError] = useState<unknown>()
  const [tried, setTried] = useState<string>()
  const foreseen = useQuery({
    queryKey: ['sent', id, 'differences', find],
    queryFn: ({ signal }) =>
      api<SendForeseen>(
        'GET',
        `/pipelines/${id}/differences?${new URLSearchParams({ find })}`,
        undefined,
        signal,
      ),
    placeholderData: before => before,
    staleTime: Infinity,
  })
  const act = (deed: Parameters<typeof send>[1], said: string) => () => {
    setError(undefined)
    send(id, deed).then(() => setTried(said), setError)
  }
  const waits = state === 'Waiting'
  return (
    <div className="py-3">
      <div className="flex items-center gap-4">
        <div className="w-72">
          <FindField
            label="Find in keys and values"
            value={find}
            onChange={event => setFind(event.target.value)}
          />
        </div>
        <span className="flex-1" />
        <span className="text-[13px] text-ink-2" role="status">
          {foreseen.isFetching
            ? 'comparing …'
            : foreseen.data && `compared in ${duration(foreseen.data.seconds)}`}
        </span>
        <Button onClick={() => void foreseen.refetch()} disabled={foreseen.isFetching}>
          Compare again
        </Button>
      </div>
      <ErrorNotice error={foreseen.error ?? error} />
      {tried !== undefined && (
        <p className="py-1 text-[13px] text-ink-2" role="status">
          The row {tried} is sent by itself; what came of it is in Now and Records.{' '}
          <TextButton onClick={act({ deed: 'undo' }, tried)}>Take it back</TextButton>
        </p>
      )}
      {foreseen.data && (
        <>
          <ForeseenFigures foreseen={foreseen.data} />
          <p className="text-[13px] text-ink-2">
            {plural(foreseen.data.total, 'row')} in the result. <Meets meets={foreseen.data.meets} />
          </p>
          {foreseen.data.asks && (
            <div className="my-2">
              <Notice level="warning" title={foreseen.data.asks}>
                A run asks before it does so much.
              </Notice>
            </div>
          )}
          <Reasons reasons={foreseen.data.reasons} />
          {foreseen.data.rows.length === 0 ? (
            <p className="py-4 text-ink-2">
              The app has everything as it is to be, as far as it was sent by us.
            </p>
          ) : (
            <SendRows
              rows={foreseen.data.rows}
              label="Differences"
              deeds={row =>
                row.op === 'create' || row.op === 'change' ? (
                  <TextButton
                    disabled={!waits}
                    onClick={act({ deed: 'try', keys: [row.key] }, row.key.join(', '))}
                    aria-label={`Try it: ${row.key.join(', ')}`}
                  >
                    Try it
                  </TextButton>
                ) : row.op === 'held' ? (
                  <HeldDeeds pipeline={id} row={row} fields={definition.fields} waits={waits} />
                ) : null
              }
            />
          )}
        </>
      )}
    </div>
  )
}
