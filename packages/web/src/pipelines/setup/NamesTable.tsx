import type { NameFilter, NamesAnswer } from '@tide/core/api/names'
import { useVirtualizer } from '@tanstack/react-virtual'
import { useRef } from 'react'
import { count } from '../../format.ts'
import { FindField } from '../../parts/Field.tsx'
import { difference } from '../../parts/difference.ts'

const LINE = 25
const GRID = 'grid grid-cols-[minmax(0,1fr)_minmax(0,1fr)_130px] items-center gap-3 border-b border-line'

const FILTERS: { show: NameFilter; title: string }[] = [
  { show: 'changed', title: 'changed' },
  { show: 'refused', title: 'do not fit' },
  { show: 'meeting', title: 'meet another' },
  { show: 'all', title: 'all' },
]

interface NamesTableProps {
  answer: NamesAnswer
  show: NameFilter
  setShow: (show: NameFilter) => void
  find: string
  setFind: (find: string) => void
}

/** Every name before and after, the changed part marked, with the rules that did it. */
export function NamesTable({ answer, show, setShow, find, setFind }: NamesTableProps) {
  const scroller = useRef<HTMLDivElement>(null)
  const { names, found, counts } = answer
  // eslint-disable-next-line react-hooks/incompatible-library -- the virtualizer is not memoised on purpose
  const virtual = useVirtualizer({
    count: names.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => LINE,
    overscan: 10,
  })
  return (
    <div>
      <div className="flex items-baseline gap-4 text-[13px]">
        <div role="radiogroup" aria-label="Which names" className="flex gap-3 whitespace-nowrap">
          {FILTERS.map(filter => (
            <label
              key={filter.show}
              className={`cursor-pointer ${filter.show === show ? 'font-semibold' : ''}`}
            >
              <input
                type="radio"
                className="sr-only peer"
                checked={filter.show === show}
                onChange={() => setShow(filter.show)}
              />
              <span className="rounded-sm text-link peer-checked:text-ink peer-focus-visible:outline-2">
                {filter.title} {count(counts[filter.show])}
              </span>
            </label>
          ))}
        </div>
        <FindField label="Find a name" value={find} onChange={event => setFind(event.target.value)} />
      </div>
      <div className={`${GRID} mt-1 border-line-2 py-1 text-[12px] font-semibold text-ink-2`}>
        <span>At the source</span>
        <span>At the target</span>
        <span>By rule</span>
      </div>
      <div
        ref={scroller}
        className="max-h-[330px] overflow-auto"
        tabIndex={0}
        role="region"
        aria-label="Names"
      >
        <div className="relative" style={{ height: virtual.getTotalSize() }}>
          {virtual.getVirtualItems().map(({ index, start, key }) => (
            <div key={key} className="absolute inset-x-0" style={{ top: start, height: LINE }}>
              <NameLine name={names[index]!} />
            </div>
          ))}
        </div>
        {names.length === 0 && <p className="py-2 text-[13px] text-ink-2">There is no such name.</p>}
        {found > names.length && (
          <p className="py-2 text-[13px] text-ink-2">
            The first {count(names.length)} of {count(found)}; find others by what they are called.
          </p>
        )}
      </div>
    </div>
  )
}

function NameLine({
  name: { kind, path, name, by, refused, meets },
}: {
  name: NamesAnswer['names'][number]
}) {
  const source = path.at(-1)!
  const whole = path.join('.')
  const problem = refused ?? (meets && `meets ${meets.at(-1)!}`)
  const otherwise =
    name === source
      ? ''
      : name.toLowerCase() === source.toLowerCase()
        ? 'the target’s case'
        : 'chosen under To'
  const indent = { schemas: '', tables: 'pl-3', columns: 'pl-6' }[kind]
  const cell = 'overflow-hidden font-mono text-[12px] text-ellipsis whitespace-nowrap'
  return (
    <div className={`${GRID} h-full ${problem ? 'bg-buoy-paper' : ''}`}>
      <span className={`${cell} ${indent} ${kind === 'schemas' ? 'font-semibold' : ''}`} title={whole}>
        {source}
      </span>
      <span className={cell} title={name}>
        <Marked text={name} before={source} />
      </span>
      <span
        className={`overflow-hidden text-[12px] text-ellipsis whitespace-nowrap ${problem ? 'font-semibold text-buoy' : by.length > 0 ? 'text-ink-2' : 'text-ink-3'}`}
        title={problem ?? ''}
      >
        {problem ?? (by.map(rule => rule + 1).join(' ') || otherwise)}
      </span>
    </div>
  )
}

/** What has changed but for upper and lower case. */
function Marked({ text, before }: { text: string; before: string }) {
  const [small, smallBefore] = [text.toLowerCase(), before.toLowerCase()]
  if (small === smallBefore || small.length !== text.length) return text
  const [begin, middle] = difference(small, smallBefore)
  const end = begin.length + middle.length
  return (
    <>
      {text.slice(0, begin.length)}
      <mark className="bg-line font-semibold text-ink">{text.slice(begin.length, end)}</mark>
      {text.slice(end)}
    </>
  )
}
