import type { SendRow } from '@tide/core/api/send'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { useOutletContext } from 'react-router'
import { api } from '../api/client.ts'
import { plural } from '../format.ts'
import { Button, TextButton } from '../parts/Button.tsx'
import { ErrorNotice } from '../parts/Notice.tsx'
import { send } from './deeds.ts'
import { HeldDeeds } from './HeldDeeds.tsx'
import { SaidByHand } from './SaidByHand.tsx'
import { SendRows } from './SendRows.tsx'
import type { SendingStatus } from './status.ts'

/** What the app has refused, with its words. What is corrected at the source goes by itself. */
export function SendHeld() {
  const { id, state, toName, send: sending, definition } = useOutletContext<SendingStatus>()
  const [error, setError] = useState<unknown>()
  const held = useQuery({
    queryKey: ['sent', id, 'held', sending?.last?.id, sending?.held, state],
    queryFn: () => api<SendRow[]>('GET', `/pipelines/${id}/refused`),
    placeholderData: before => before,
  })
  const again = (keys: string[][]) => () => {
    setError(undefined)
    void send(id, { deed: 'again', keys }).catch(setError)
  }
  const rows = held.data ?? []
  return (
    <div className="py-3">
      <ErrorNotice error={held.error ?? error} />
      {held.data && rows.length === 0 && (
        <p className="py-4 text-ink-2">
          {toName} has refused nothing that is not settled. Rows that do not fit before they are sent are in
          Differences.
        </p>
      )}
      {rows.length > 0 && (
        <>
          <p className="flex items-baseline gap-4 pb-2 text-[13px] text-ink-2">
            {plural(rows.length, 'record was', 'records were')} refused by {toName}. Corrected at the source,
            they go with the next run.
            <Button disabled={state !== 'Waiting'} onClick={again(rows.map(({ key }) => key))}>
              {rows.length === 1 ? 'Send it again' : `Send these ${rows.length} again`}
            </Button>
          </p>
          <SendRows
            rows={rows}
            label="Refused records"
            deeds={row => (
              <>
                <TextButton
                  disabled={state !== 'Waiting'}
                  onClick={again([row.key])}
                  aria-label={`Send again ${row.key.join(', ')}`}
                >
                  Send again
                </TextButton>
                <HeldDeeds pipeline={id} row={row} fields={definition.fields} waits={state === 'Waiting'} />
              </>
            )}
          />
        </>
      )}
      <SaidByHand
        pipeline={id}
        waits={state === 'Waiting'}
        upTo={`${sending?.last?.id} ${sending?.held} ${state}`}
      />
    </div>
  )
}
