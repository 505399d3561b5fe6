import { useState, type ReactNode } from 'react'

export interface Column<T> {
  title: string
  /** The title is read out, not shown: its cells say what they are. */
  untitled?: boolean
  cell: (row: T) => ReactNode
  /** What to sort by; without it the column does not sort. */
  by?: (row: T) => string | number
  align?: 'right'
  className?: string
}

interface Sorting {
  column: number
  down: boolean
}

/** A table of hairlines with sticky headers; figures are right-aligned, headers sort. */
export function DataTable<T>({
  columns,
  rows,
  rowKey,
  label,
}: {
  columns: Column<T>[]
  rows: T[]
  rowKey: (row: T) => string
  label: string
}) {
  const [sorting, setSorting] = useState<Sorting>()
  const by = sorting && columns[sorting.column]?.by
  const shown = by ? [...rows].sort((a, b) => compare(by(a), by(b)) * (sorting.down ? -1 : 1)) : rows
  return (
    <table className="w-full border-collapse text-[13px]" aria-label={label}>
      <thead>
        <tr>
          {columns.map((column, i) => (
            <th
              key={column.title}
              scope="col"
              aria-sort={sorting?.column !== i ? undefined : sorting.down ? 'descending' : 'ascending'}
              className={`sticky top-0 z-10 border-b border-line-2 bg-paper px-2 py-1.5 text-[12px] font-semibold text-ink-2 first:pl-0 last:pr-0 ${column.align === 'right' ? 'text-right' : 'text-left'}`}
            >
              {column.by ? (
                <button
                  type="button"
                  className="font-semibold hover:text-ink"
                  onClick={() => setSorting(turned(sorting, i))}
                >
                  {column.title}
                  {sorting?.column === i && (sorting.down ? ' ↓' : ' ↑')}
                </button>
              ) : (
                <span className={column.untitled ? 'sr-only' : ''}>{column.title}</span>
              )}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {shown.map(row => (
          <tr key={rowKey(row)} className="border-b border-line">
            {columns.map(column => (
              <td
                key={column.title}
                className={`px-2 py-1.5 whitespace-nowrap first:pl-0 last:pr-0 ${column.align === 'right' ? 'text-right' : ''} ${column.className ?? ''}`}
              >
                {column.cell(row)}
              </td>
            ))}
          </tr>
        ))}
      </tbody>
    </table>
  )
}

function turned(sorting: Sorting | undefined, column: number): Sorting | undefined {
  if (sorting?.column !== column) return { column, down: false }
  return sorting.down ? undefined : { column, down: true }
}

function compare(a: string | number, b: string | number): number {
  return typeof a === 'number' && typeof b === 'number' ? a - b : String(a).localeCompare(String(b))
}
