import { datasetId, type Dataset, type DatasetName } from '@tide/core/records/dataset'
import { useVirtualizer } from '@tanstack/react-virtual'
import { useRef, useState } from 'react'
import { bytes, count, plural } from '../format.ts'
import { TextButton } from '../parts/Button.tsx'
import { FindField } from '../parts/Field.tsx'
import { Name } from '../parts/Name.tsx'

interface TableTreeProps {
  datasets: Dataset[]
  chosen: DatasetName[]
  /** Those that are in it already, and stay. */
  fixed: readonly DatasetName[]
  change: (chosen: DatasetName[]) => void
  lookAgain: () => void
}

type Line = { schema: string; members: Dataset[] } | { dataset: Dataset }

const LINE = 27
const GRID =
  'grid grid-cols-[24px_minmax(0,1fr)_108px_64px_152px_106px] items-center gap-2 border-b border-line pr-1'

/** Tables under their schemas, to be ticked whole or one by one. Space ticks, arrows move. */
export function TableTree({ datasets, chosen, fixed, change, lookAgain }: TableTreeProps) {
  const [find, setFind] = useState('')
  const scroller = useRef<HTMLDivElement>(null)
  const ids = new Set(chosen.map(datasetId))
  const stay = new Set(fixed.map(datasetId))
  const shown = datasets.filter(({ namespace, name }) =>
    `${namespace}.${name}`.toLowerCase().includes(find.toLowerCase()),
  )
  const lines = [...new Set(shown.map(({ namespace }) => namespace))].flatMap((schema): Line[] => {
    const members = shown.filter(({ namespace }) => namespace === schema)
    return [{ schema, members }, ...members.map(dataset => ({ dataset }))]
  })
  // eslint-disable-next-line react-hooks/incompatible-library -- the virtualizer is not memoised on purpose
  const virtual = useVirtualizer({
    count: lines.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => LINE,
    // A line stays the same element when others come before it, so that the focus stays where it is.
    getItemKey: index => {
      const line = lines[index]!
      return 'schema' in line ? line.schema : datasetId(line.dataset)
    },
    overscan: 10,
  })
  const tick = (members: Dataset[], on: boolean) => {
    const touched = new Set(members.map(datasetId).filter(id => !stay.has(id)))
    const rest = chosen.filter(name => !touched.has(datasetId(name)))
    const more = members.filter(member => touched.has(datasetId(member)))
    change(on ? [...rest, ...more.map(({ namespace, name }) => ({ namespace, name }))] : rest)
  }
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
                  <SchemaLine {...line} ids={ids} tick={tick} />
                ) : (
                  <TableLine
                    dataset={line.dataset}
                    ticked={ids.has(datasetId(line.dataset))}
                    stays={stay.has(datasetId(line.dataset))}
                    tick={tick}
                  />
                )}
              </div>
            )
          })}
        </div>
        {shown.length === 0 && (
          <p className="py-3 text-ink-2">
            {find ? `No table is found by “${find}”.` : 'The source has no tables this user may read.'}
          </p>
        )}
      </div>
    </div>
  )
}

type Tick = (members: Dataset[], on: boolean) => void

function SchemaLine({
  schema,
  members,
  ids,
  tick,
}: {
  schema: string
  members: Dataset[]
  ids: Set<string>
  tick: Tick
}) {
  const ticked = members.filter(member => ids.has(datasetId(member))).length
  const possible = members.filter(member => member.key.length > 0)
  const all = ticked > 0 && possible.every(member => ids.has(datasetId(member)))
  return (
    <label className={`${GRID} h-full`}>
      <input
        type="checkbox"
        aria-label={`All of ${schema}`}
        checked={all}
        ref={element => {
          if (element) element.indeterminate = ticked > 0 && !all
        }}
        onChange={() => tick(all ? members : possible, !all)}
      />
      <span>
        <b>{schema}</b>{' '}
        <span className="text-ink-2">
          {ticked} of {plural(members.length, 'table')}
        </span>
      </span>
    </label>
  )
}

interface TableLineProps {
  dataset: Dataset
  ticked: boolean
  stays: boolean
  tick: Tick
}

function TableLine({ dataset, ticked, stays, tick }: TableLineProps) {
  const { name, rows, rowsExact, key, keyNote } = dataset
  const why = stays
    ? 'in it already'
    : ticked
      ? 'ticked'
      : key.length === 0
        ? (keyNote ?? 'cannot be followed')
        : ''
  return (
    <label className={`${GRID} h-full pl-5 ${ticked ? '' : 'text-ink-3'}`}>
      <input
        type="checkbox"
        aria-label={`${dataset.namespace}.${name}`}
        checked={ticked}
        disabled={stays}
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
      <span className="overflow-hidden text-[12px] text-ellipsis whitespace-nowrap text-ink-3" title={why}>
        {why}
      </span>
    </label>
  )
}
