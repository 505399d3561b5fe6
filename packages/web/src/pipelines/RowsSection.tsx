import type { ReplicationStatus } from '@tide/core/api/pipelines'
import type { RowPair } from '@tide/core/api/rows'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { useOutletContext } from 'react-router'
import { api } from '../api/client.ts'
import { Button, TextButton } from '../parts/Button.tsx'
import { SelectField, TextField } from '../parts/Field.tsx'
import { ErrorNotice } from '../parts/Notice.tsx'
import { laneTitle } from './laneTitle.ts'
import { RowSides } from './RowSides.tsx'
import { isArchive } from '../parts/StateWord.tsx'
import { Together } from './Together.tsx'
import { Trail } from './Trail.tsx'

const LOOK_EVERY_MS = 1_000

/** One record on both sides, looked at every second: a change at the source can be seen arriving. */
export function RowsSection() {
  const pipeline = useOutletContext<ReplicationStatus>()
  const { id, lanes, origins, toName } = pipeline
  const [lane, setLane] = useState(0)
  const origin = origins.find(({ tag }) => tag === lanes[lane]?.origin)
  const fromName = origin?.connectionName ?? pipeline.fromName
  const [key, setKey] = useState<string[]>()
  const row = (of: string) => api<RowPair>('GET', `/pipelines/${id}/lanes/${lane}/row${of}`)
  // The last row is chosen once and then stays, whatever comes after it.
  const last = useQuery({
    queryKey: ['last row', id, lane],
    queryFn: () => row(''),
    enabled: lanes.length > 0,
    gcTime: 0,
    staleTime: Infinity,
  })
  const chosen = key ?? last.data?.key
  const pair = useQuery({
    queryKey: ['row', id, lane, chosen],
    queryFn: () => row(`?${new URLSearchParams({ key: JSON.stringify(chosen) })}`),
    enabled: chosen !== undefined && chosen.length > 0,
    refetchInterval: LOOK_EVERY_MS,
    gcTime: 0,
  })
  if (isArchive(pipeline) && lanes.length > 0) return <Together pipeline={pipeline} />
  if (lanes.length === 0)
    return (
      <p className="py-6 text-ink-2">
        Nothing has been copied yet, so there is nothing to hold side by side.
      </p>
    )
  const choose = (index: number) => {
    setLane(index)
    setKey(undefined)
  }
  return (
    <section aria-label="A row on both sides" className="py-3">
      <div className="flex flex-wrap items-end gap-4">
        <div className="w-64">
          <SelectField
            label="Lane"
            value={lane}
            onChange={event => choose(Number(event.target.value))}
            options={lanes.map((lane, i) => ({ value: String(i), title: laneTitle(lane) }))}
          />
        </div>
        {pair.data && pair.data.key.length > 0 && (
          <KeyForm
            key={`${lane} ${pair.data.key.join()}`}
            names={pair.data.fields.filter(({ inKey }) => inKey).map(({ name }) => name)}
            pair={pair.data}
            look={setKey}
          />
        )}
        {key && (
          <TextButton className="pb-2" onClick={() => setKey(undefined)}>
            The last row
          </TextButton>
        )}
      </div>
      <div className="mt-4">
        <ErrorNotice error={last.error ?? pair.error} />
        {last.data?.key.length === 0 && <p className="text-ink-2">The table is empty at the source.</p>}
        {pair.data && <RowSides pair={pair.data} fromName={fromName} toName={toName} />}
        {pair.data && pair.data.key.length > 0 && <Trail pipeline={id} lane={lane} rowKey={pair.data.key} />}
      </div>
    </section>
  )
}

function KeyForm({ names, pair, look }: { names: string[]; pair: RowPair; look: (key: string[]) => void }) {
  const [parts, setParts] = useState(pair.key)
  return (
    <form
      className="flex items-end gap-3"
      onSubmit={event => {
        event.preventDefault()
        look(parts)
      }}
    >
      {parts.map((part, i) => (
        <div key={i} className="w-36">
          <TextField
            mono
            label={names[i] ?? `Key, part ${i + 1}`}
            value={part}
            onChange={event => setParts(parts.with(i, event.target.value))}
          />
        </div>
      ))}
      <Button type="submit" className="py-1.5">
        Look
      </Button>
    </form>
  )
}
