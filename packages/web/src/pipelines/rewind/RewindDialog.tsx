/** Going back to another position: where to, what that would do, and then doing it. The address says that it is open. */
import type { ReplicationStatus } from '@tide/core/api/pipelines'
import type { PositionsAnswer, RewindForesight } from '@tide/core/api/rewind'
import { useQuery } from '@tanstack/react-query'
import { Dialog as Radix } from 'radix-ui'
import { useState } from 'react'
import { useSearchParams } from 'react-router'
import { api } from '../../api/client.ts'
import { putPipeline, useLive } from '../../api/live.ts'
import { moment } from '../../format.ts'
import { Button, TextButton } from '../../parts/Button.tsx'
import { PasteBlock } from '../../parts/Copyable.tsx'
import { SelectField, TextField } from '../../parts/Field.tsx'
import { ErrorNotice } from '../../parts/Notice.tsx'
import { Foresight } from './Foresight.tsx'
import { SavedPositions } from './SavedPositions.tsx'
import { REWIND } from './search.ts'
import { usePositions } from './usePositions.ts'
import { whereTo } from './whereTo.ts'

export function RewindDialog({ pipeline }: { pipeline: ReplicationStatus }) {
  const [search, setSearch] = useSearchParams()
  const asked = search.get(REWIND)
  const close = () =>
    setSearch(
      now => {
        now.delete(REWIND)
        return now
      },
      { replace: true },
    )
  return (
    <Radix.Root open={asked !== null} onOpenChange={open => !open && close()}>
      <Radix.Portal>
        <Radix.Overlay className="fixed inset-0 z-40 bg-[#13222c66]" />
        <Radix.Content
          className="fixed top-[6%] left-1/2 z-50 max-h-[88%] w-[720px] -translate-x-1/2 overflow-y-auto border border-line-2 bg-paper-3 p-5"
          aria-describedby={undefined}
        >
          <Radix.Title className="text-base">Rewind {pipeline.definition.name}</Radix.Title>
          {asked !== null && <Form key={asked} pipeline={pipeline} text={asked} close={close} />}
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  )
}

function Form({ pipeline, text, close }: { pipeline: ReplicationStatus; text: string; close: () => void }) {
  const { origins } = pipeline
  const [typed, setTyped] = useState(text)
  // A line of the log begins with whose it is.
  const [of, setOf] = useState(() => origins.find(({ tag }) => text.startsWith(`${tag}: `))?.tag ?? '')
  const [reason, setReason] = useState('')
  const [busy, setBusy] = useState(false)
  const [error, setError] = useState<unknown>()
  const now = useLive(live => live.now)
  const positions = usePositions(pipeline.id)
  const run = origins.find(({ tag }) => tag === of)?.id ?? pipeline.id
  const journals = positions.data?.journals ?? []
  const journal = of === '' && origins.length > 0 ? undefined : journals.find(one => one.origin === of)
  const meant = whereTo(typed, journal?.kind, now)
  const to = meant[0]?.to
  const foresight = useQuery({
    queryKey: ['rewind', run, to],
    queryFn: ({ signal }) =>
      api<RewindForesight[]>(
        'GET',
        `/pipelines/${run}/rewind?${new URLSearchParams({ ...to })}`,
        undefined,
        signal,
      ),
    enabled: to !== undefined,
    staleTime: 0,
    gcTime: 0,
  })
  const ahead = foresight.data?.some(({ way }) => way === 'forward') ?? false
  const moves = foresight.data?.some(({ way }) => way !== 'nowhere') ?? false
  const go = async () => {
    setBusy(true)
    setError(undefined)
    try {
      await api('POST', `/pipelines/${run}/rewind`, { ...to, ...(ahead ? { reason } : {}) })
      putPipeline(await api<ReplicationStatus>('GET', `/pipelines/${pipeline.id}`))
      close()
    } catch (failed) {
      setError(failed)
      setBusy(false)
    }
  }
  return (
    <>
      <p className="mt-2 mb-3 text-[13px] text-ink-2">
        The pipeline goes on from another place of the journal; nothing is read at the source again.
      </p>
      {origins.length > 0 && (
        <div className="mb-3">
          <SelectField
            label="Which origin"
            value={of}
            onChange={({ target }) => setOf(target.value)}
            options={[
              { value: '', title: 'all of them, by time' },
              ...origins.map(({ tag }) => ({ value: tag, title: tag })),
            ]}
          />
        </div>
      )}
      <TextField
        mono
        autoFocus
        label="Where to"
        value={typed}
        placeholder={journal ? `13:26:59, or ${journal.end.position}` : '13:26:59'}
        onChange={({ target }) => setTyped(target.value)}
        hint={<Reach journals={of === '' ? journals : journals.filter(one => one.origin === of)} />}
      />
      {typed.trim() !== '' && meant.length === 0 && (
        <p role="status" className="mt-2 text-[13px] text-ochre">
          {journal || origins.length === 0
            ? 'Neither a time nor a position of this source stands there.'
            : 'That is no time. A position is of one origin: choose that first.'}
        </p>
      )}
      {meant.length > 1 && <Several meant={meant.map(({ said }) => said)} choose={setTyped} />}
      {to && <Foresight foresight={foresight.data} busy={foresight.isFetching} />}
      <ErrorNotice error={to ? foresight.error : undefined} />
      {ahead && (
        <div className="mt-3">
          <TextField
            label="Why they are left out"
            value={reason}
            maxLength={500}
            onChange={({ target }) => setReason(target.value)}
            hint="Stays in the log, and with the position."
          />
        </div>
      )}
      <SavedPositions
        pipeline={pipeline}
        saved={(positions.data?.saved ?? []).filter(({ origin }) => origins.length === 0 || origin === of)}
        choose={setTyped}
      />
      {journal?.statement && (
        <details className="mt-3 text-[13px]">
          <summary className="text-ink-2">Where does the source stand now?</summary>
          <p className="mt-1 text-ink-2">
            Run this there; what it prints can be pasted above, and so can any text with a position in it.
          </p>
          <PasteBlock text={journal.statement} />
        </details>
      )}
      <ErrorNotice error={error} />
      <div className="mt-4 flex items-center justify-end gap-2">
        <span className="flex-1 text-[12px] text-ink-3">
          {pipeline.state === 'Paused' && moves && 'It stays paused there.'}
          {pipeline.state === 'Stopped' && moves && 'It goes on from there at once.'}
        </span>
        <Button look="text" onClick={close}>
          Cancel
        </Button>
        <Button
          look={ahead ? 'danger' : 'filled'}
          disabled={busy || !moves || foresight.isFetching || (ahead && reason.trim() === '')}
          onClick={() => void go()}
        >
          {ahead ? 'Go forward, leave them out' : 'Rewind'}
        </Button>
      </div>
    </>
  )
}

function Reach({ journals }: { journals: PositionsAnswer['journals'] }) {
  const starts = journals.flatMap(({ start }) => start.at ?? [])
  if (journals.length === 0) return <>There is no journal here to go back in.</>
  const [oldest] = starts.sort().reverse()
  return (
    <>
      A time or a position.{' '}
      {oldest ? `The journal reaches back to ${moment(oldest)}.` : 'The journal holds no transaction yet.'}
    </>
  )
}

function Several({ meant, choose }: { meant: string[]; choose: (text: string) => void }) {
  return (
    <p className="mt-2 text-[13px]">
      <span className="text-ink-2">Several positions stand there; the first is taken. </span>
      {meant.map(said => (
        <TextButton key={said} className="mr-3 font-mono text-[12px]" onClick={() => choose(said)}>
          {said}
        </TextButton>
      ))}
    </p>
  )
}
