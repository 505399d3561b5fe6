import { useVirtualizer } from '@tanstack/react-virtual'
import { useRef } from 'react'
import type { Grid } from '@tide/core/api/browse'

const ROW = 26
const FIGURES = /^(u?(big|small|tiny|huge)?int|integer|numeric|decimal|double|float|real)/i

/** More of a value than a cell can show, and than anybody reads on hover, only makes the page slow. */
const SHOWN_CHARACTERS = 300
const HOVER_CHARACTERS = 4_000

/** Rows as text, virtualised; nulls are told from empty strings. */
export function ResultGrid({ grid, label }: { grid: Grid; label: string }) {
  const scroller = useRef<HTMLDivElement>(null)
  // eslint-disable-next-line react-hooks/incompatible-library -- the virtualizer is not memoised on purpose
  const virtual = useVirtualizer({
    count: grid.rows.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => ROW,
    overscan: 12,
  })
  const items = virtual.getVirtualItems()
  const before = items[0]?.start ?? 0
  const after = virtual.getTotalSize() - (items.at(-1)?.end ?? 0)
  const right = grid.columns.map(({ type }) => FIGURES.test(type) && !type.includes('['))
  return (
    <div
      ref={scroller}
      className="h-full overflow-auto border border-line bg-paper-3"
      tabIndex={0}
      role="region"
      aria-label={label}
    >
      <table className="border-collapse text-[12px]" aria-rowcount={grid.rows.length}>
        <thead>
          <tr>
            {grid.columns.map(({ name, type }, i) => (
              <th
                key={`${i} ${name}`}
                scope="col"
                title={name.slice(0, HOVER_CHARACTERS)}
                className={`sticky top-0 z-10 max-w-96 resize-x overflow-hidden border-b border-line-2 bg-paper-2 px-2 py-1 ${right[i] ? 'text-right' : 'text-left'}`}
              >
                <span className="block overflow-hidden font-mono font-semibold text-ellipsis whitespace-nowrap">
                  {name.slice(0, SHOWN_CHARACTERS)}
                </span>
                <span className="block text-[11px] font-normal text-ink-3">{type}</span>
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {before > 0 && <tr style={{ height: before }} />}
          {items.map(({ index, key }) => (
            <tr key={key} style={{ height: ROW }} className="border-b border-line">
              {grid.rows[index]!.map((value, i) => (
                <td
                  key={i}
                  title={value?.slice(0, HOVER_CHARACTERS)}
                  className={`max-w-80 overflow-hidden px-2 font-mono text-ellipsis whitespace-nowrap ${right[i] ? 'text-right' : ''}`}
                >
                  {value === null ? (
                    <span className="text-ink-3 italic">null</span>
                  ) : (
                    value.slice(0, SHOWN_CHARACTERS)
                  )}
                </td>
              ))}
            </tr>
          ))}
          {after > 0 && <tr style={{ height: after }} />}
        </tbody>
      </table>
    </div>
  )
}
