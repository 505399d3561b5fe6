import { chooser, type Choice, type Decision } from '@tide/core/definition/choose'
import { datasetId, printName, type Dataset } from '@tide/core/records/dataset'
import { useVirtualizer } from '@tanstack/react-virtual'
import { useMemo, useRef, useState } from 'react'
import { bytes, count, plural } from '../format.ts'
import { TextButton } from '../parts/Button.tsx'
import { FindField } from '../parts/Field.tsx'
import { Name } from '../parts/Name.tsx'

interface TableTreeProps {
  datasets: readonly Dataset[]
  definition: Choice
  tick: Tick
  lookAgain: () => void
}

type Tick = (touched: Dataset[], on: boolean) => void

interface Entry {
  dataset: Dataset
  id: string
  /** What is looked for, in lower case. */
  find: string
  decision: Decision
}

type Line = { schema: string; members: Entry[] } | { entry: Entry }

const LINE = 27
const GRID =
  'grid grid-cols-[24px_minmax(0,1fr)_108px_64px_152px_120px] items-center gap-2 border-b border-line pr-1'

/** Tables under their schemas, to be ticked whole or one by one. Space ticks, arrows move. */
export function TableTree({ datasets, definition, tick, lookAgain }: TableTreeProps) {
  const [find, setFind] = useState('')
  const [toldId, setToldId] = useState('')
  const scroller = useRef<HTMLDivElement>(null)
  const entries = useMemo(() => {
    const decide = chooser(definition)
    return datasets.map((dataset): Entry => {
      const id = datasetId(dataset)
      const find = `${dataset.namespace}.${dataset.name}`.toLowerCase()
      return { dataset, id, find, decision: decide(dataset) }
    })
  }, [datasets, definition])
  const told = entries.find(({ id }) => id === toldId)
  const lines = useMemo(() => {
    const schemas = new Map<string, Entry[]>()
    for (const entry of entries) {
      if (!entry.find.includes(find.toLowerCase())) continue
      const members = schemas.get(entry.dataset.namespace)
      if (members) members.push(entry)
      else schemas.set(entry.dataset.namespace, [entry])
    }
    return [...schemas].flatMap(([schema, members]): Line[] => [
      { schema, members },
      ...members.map(entry => ({ entry })),
    ])
  }, [entries, find])
  // eslint-disable-next-line react-hooks/incompatible-library -- the virtualizer is not memoised on purpose
  const virtual = useVirtualizer({
    count: lines.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => LINE,
    // A line stays the same element when others come before it, so that the focus stays where it is.
    getItemKey: index => {
      const line = lines[index]!
      return 'schema' in line ? line.schema : line.entry.id
    },
    overscan: 10,
  })
  return (
    <div>
      <div className="flex items-baseline gap-4">
        <FindField label="Find a table" value={find} onChange={event => setFind(event.target.value)} />
        <TextButton className="text-[13px] whitespace-nowrap" onClick={lookAgain}>
          Look again
        </TextButton>
      </div>
      <div className={`${GRID} mt-1 border-line-2 py-1 text-[12px] font-semibold text-ink-2`}>
        <span />
        <span>Table</span>
        <span className="text-right">Rows</span>
        <span className="text-right">Size</span>
        <span>Key</span>
        <span>Why</span>
      </div>
      <div ref={scroller} className="max-h-[430px] overflow-auto text-[13px]">
        <div className="relative" style={{ height: virtual.getTotalSize() }}>
          {virtual.getVirtualItems().map(({ index, start, key }) => {
            const line = lines[index]!
            return (
              <div key={key} className="absolute inset-x-0" style={{ top: start, height: LINE }}>
                {'schema' in line ? (
                  <SchemaLine {...line} tick={tick} />
                ) : (
                  <TableLine entry={line.entry} tick={tick} tell={setToldId} />
                )}
              </div>
            )
          })}
        </div>
        {lines.length === 0 && (
          <p className="py-3 text-ink-2">
            {find ? `No table is found by “${find}”.` : 'The source has no tables this user may read.'}
          </p>
        )}
      </div>
      <p className="min-h-10 pt-1.5 text-[12px] text-ink-2">
        {told && (
          <>
            <span className="font-mono">{printName(told.dataset)}</span>
            {`: ${[whyOf(told), told.dataset.key.length === 0 ? told.dataset.keyNote : `key ${told.dataset.key.join(', ')}`, told.dataset.notFollowed, told.dataset.unseen].filter(Boolean).join('; ')}`}
          </>
        )}
      </p>
    </div>
  )
}

function SchemaLine({ schema, members, tick }: { schema: string; members: Entry[]; tick: Tick }) {
  const chosen = members.filter(({ decision }) => decision.takesPart)
  const possible = members.filter(({ dataset }) => dataset.key.length > 0)
  const all = chosen.length > 0 && possible.every(({ decision }) => decision.takesPart)
  return (
    <label className={`${GRID} h-full`}>
      <input
        type="checkbox"
        aria-label={`All of ${schema}`}
        checked={all}
        ref={element => {
          if (element) element.indeterminate = chosen.length > 0 && !all
        }}
        onChange={() =>
          tick(
            (all ? members : possible).map(({ dataset }) => dataset),
            !all,
          )
        }
      />
      <span className="col-span-5 overflow-hidden text-ellipsis whitespace-nowrap">
        <b>{schema}</b>{' '}
        <span className="text-ink-2">
          {chosen.length} of {plural(members.length, 'table')}
        </span>
      </span>
    </label>
  )
}

/** What decided that it takes part or not. */
function whyOf({ dataset: { key, keyNote }, decision }: Entry): string {
  if (decision.by === 'pattern')
    return `${decision.takesPart ? 'in' : 'out'} by pattern ${decision.pattern + 1}`
  if (decision.by === 'bundle') return `in ${decision.bundle}`
  if (decision.by === 'hand') return decision.takesPart ? 'ticked' : 'taken out'
  return key.length === 0 ? (keyNote ?? 'cannot be followed') : ''
}

function TableLine({ entry, tick, tell }: { entry: Entry; tick: Tick; tell: (id: string) => void }) {
  const { dataset, decision } = entry
  const { name, rows, rowsExact, key } = dataset
  const ticked = decision.takesPart
  return (
    <label
      className={`${GRID} h-full pl-5 ${ticked ? '' : 'text-ink-3'}`}
      onMouseEnter={() => tell(entry.id)}
      onFocus={() => tell(entry.id)}
    >
      <input
        type="checkbox"
        aria-label={`${dataset.namespace}.${name}`}
        checked={ticked}
        onChange={() => tick([dataset], !ticked)}
      />
      <Name>{name}</Name>
      <span className="text-right whitespace-nowrap">
        {rowsExact ? '' : 'about '}
        {count(rows)}
      </span>
      <span className="text-right">{bytes(dataset.bytes)}</span>
      {key.length > 0 ? (
        <span
          className="overflow-hidden font-mono text-[12px] text-ellipsis whitespace-nowrap"
          title={key.join(', ')}
        >
          {key.join(', ')}
        </span>
      ) : (
        <span className="font-semibold text-ochre">no key</span>
      )}
      <span className="overflow-hidden text-[12px] text-ellipsis whitespace-nowrap text-ink-3">
        {whyOf(entry)}
      </span>
    </label>
  )
}
