import type { SendRow } from '@tide/core/api/send'
import { useState } from 'react'
import { TextButton } from '../parts/Button.tsx'
import { Name } from '../parts/Name.tsx'
import { SideBySide } from '../parts/SideBySide.tsx'
import { keySaid, OPS } from './said.ts'

interface SendRowsProps {
  rows: readonly SendRow[]
  label: string
  /** Of the two sides of a row. */
  titles?: { left: string; right: string }
  /** Beside each: what can be done with it. */
  deeds?: (row: SendRow) => React.ReactNode
}

/** Rows of a difference: what becomes of each, and when one is opened, field by field what was and what is to be. */
export function SendRows({
  rows,
  label,
  deeds,
  titles = { left: 'As the app has it by us', right: 'As it is to be' },
}: SendRowsProps) {
  const [open, setOpen] = useState<string>()
  return (
    <table className="w-full border-collapse text-[13px]" aria-label={label}>
      <thead>
        <tr className="border-b border-line-2 text-left text-[12px] text-ink-2">
          <th scope="col" className="w-20 py-1.5 font-semibold">
            What
          </th>
          <th scope="col" className="w-40 py-1.5 font-semibold">
            Row key
          </th>
          <th scope="col" className="py-1.5 font-semibold">
            Fields
          </th>
          {deeds && (
            <th scope="col" className="w-64">
              <span className="sr-only">Deeds</span>
            </th>
          )}
        </tr>
      </thead>
      <tbody>
        {rows.map(row => {
          const id = `${row.op} ${keySaid(row.key)}`
          return (
            <RowLines
              key={id}
              row={row}
              open={open === id}
              turn={() => setOpen(open === id ? undefined : id)}
              deeds={deeds?.(row)}
              columns={deeds ? 4 : 3}
              titles={titles}
            />
          )
        })}
      </tbody>
    </table>
  )
}

interface RowLinesProps {
  row: SendRow
  open: boolean
  turn: () => void
  deeds: React.ReactNode
  columns: number
  titles: { left: string; right: string }
}

function RowLines({ row, open, turn, deeds, columns, titles }: RowLinesProps) {
  const { op, key, id, reason, remedy, field } = row
  return (
    <>
      <tr className="border-b border-line align-top">
        <td className={`py-1.5 ${op === 'held' || op === 'remove' ? 'font-semibold text-buoy' : ''}`}>
          {OPS[op]}
        </td>
        <td className="py-1.5 pr-3">
          <TextButton aria-expanded={open} onClick={turn}>
            <Name>{keySaid(key)}</Name>
          </TextButton>
        </td>
        <td className="py-1.5 break-words">
          {reason ? (
            <>
              {field && <span className="font-mono text-[12px]">{field}: </span>}
              {sentence(reason)} <span className="text-ink-2">{remedy}</span>
            </>
          ) : (
            <span className="font-mono text-[12px] text-ink-2">{changedSaid(row)}</span>
          )}
        </td>
        {deeds && (
          <td className="py-1.5 pl-3">
            <span className="flex justify-end gap-3 whitespace-nowrap">{deeds}</span>
          </td>
        )}
      </tr>
      {open && (
        <tr className="border-b border-line-2">
          <td colSpan={columns} className="bg-paper-2 px-4 py-2">
            {id !== null && <p className="mb-1 text-[12px] text-ink-2">In the app it is {id}.</p>}
            <SideBySide leftTitle={titles.left} rightTitle={titles.right} pairs={pairsOf(row)} />
          </td>
        </tr>
      )}
    </>
  )
}

function pairsOf({ was, values }: SendRow) {
  const names = [...new Set([...Object.keys(was ?? {}), ...Object.keys(values ?? {})])]
  return names.map(name => {
    const [left, right] = [was?.[name] ?? null, values?.[name] ?? null]
    return { name, left, right, same: left === right }
  })
}

/** An app’s own words end as they like. */
function sentence(text: string): string {
  return /[.!?]$/.test(text) ? text : `${text}.`
}

const SHOWN_FIELDS = 4

function changedSaid(row: SendRow): string {
  const differing = pairsOf(row).filter(({ same }) => !same)
  const said = differing
    .slice(0, SHOWN_FIELDS)
    .map(({ name, left, right }) =>
      row.op === 'change' && row.was
        ? `${name}: ${left ?? 'nothing'} → ${right ?? 'nothing'}`
        : `${name}: ${right ?? left ?? 'nothing'}`,
    )
  const more = differing.length - said.length
  return said.join(', ') + (more > 0 ? ` and ${more} more` : '')
}
