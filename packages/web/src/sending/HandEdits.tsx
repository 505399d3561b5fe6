import type { HandEdits as Edits } from '@tide/core/api/send'
import { useMutation } from '@tanstack/react-query'
import { api } from '../api/client.ts'
import { count, plural } from '../format.ts'
import { Button, TextButton } from '../parts/Button.tsx'
import { ErrorNotice } from '../parts/Notice.tsx'
import { send } from './deeds.ts'
import { SendRows } from './SendRows.tsx'

/** Looks at the app’s records: which of those that were sent others have changed, or removed. */
export function HandEdits({ pipeline, app, waits }: { pipeline: string; app: string; waits: boolean }) {
  const look = useMutation({ mutationFn: () => api<Edits>('GET', `/pipelines/${pipeline}/hands`) })
  const again = useMutation({ mutationFn: (keys: string[][]) => send(pipeline, { deed: 'again', keys }) })
  const edits = look.data
  return (
    <section className="my-3 border-y border-line-2 py-2.5" aria-label="Changed by hand">
      <div className="flex items-baseline gap-4 text-[13px]">
        <Button onClick={() => look.mutate()} disabled={look.isPending}>
          {look.isPending ? 'Looking …' : `Look at ${app}`}
        </Button>
        <span className="text-ink-2" role="status">
          {!edits
            ? 'reads its records, and tells which of ours others have changed there.'
            : `${plural(edits.looked, 'record')} of ours looked at: ${count(edits.edited)} changed by others, ${count(edits.gone)} gone.`}
        </span>
        {edits && edits.rows.length > 0 && (
          <Button
            disabled={!waits || again.isPending}
            onClick={() => again.mutate(edits.rows.map(({ key }) => key))}
          >
            {`Send ${edits.rows.length === 1 ? 'it' : `these ${count(edits.rows.length)}`} again`}
          </Button>
        )}
      </div>
      <ErrorNotice error={look.error ?? again.error} />
      {edits && edits.rows.length > 0 && (
        <div className="mt-2">
          <SendRows
            rows={edits.rows}
            label="Changed by others"
            titles={{ left: `As it is at ${app}`, right: 'As we sent it' }}
            deeds={row => (
              <TextButton
                disabled={!waits || again.isPending}
                onClick={() => again.mutate([row.key])}
                aria-label={`Send again ${row.key.join(', ')}`}
              >
                Send again
              </TextButton>
            )}
          />
        </div>
      )}
    </section>
  )
}
