import type { TwoWayRow } from '@tide/core/api/two-way'
import { useState } from 'react'
import { TextButton } from '../parts/Button.tsx'
import { Name } from '../parts/Name.tsx'
import { SideBySide } from '../parts/SideBySide.tsx'
import { valueSaid, type Called } from './said.ts'

const DOES: Record<TwoWayRow['does'], string> = {
  create: 'made',
  change: 'changed',
  link: 'paired',
  agree: 'as it is',
  hold: 'held',
  apart: 'apart',
}

/** What would become of records; opened, what is written on which side. */
export function TwoWayRows({
  rows,
  called,
  label,
}: {
  rows: readonly TwoWayRow[]
  called: Called
  label: string
}) {
  const [open, setOpen] = useState<number>()
  if (rows.length === 0) return null
  return (
    <table className="mt-1 w-full table-fixed border-collapse text-[13px]" aria-label={label}>
      <colgroup>
        <col className="w-16" />
        <col className="w-24" />
        <col />
      </colgroup>
      <tbody>
        {rows.map((row, i) => {
          const half = row.a ?? row.b!
          const writes = (['a', 'b'] as const).flatMap(side =>
            Object.entries(row.becomes[side] ?? {}).map(([field, value]) => ({ side, field, value })),
          )
          return [
            <tr key={i} className="border-b border-line align-top">
              <td className={`py-1 ${row.does === 'hold' ? 'font-semibold text-buoy' : ''}`}>
                {DOES[row.does]}
              </td>
              <td className="py-1">
                <TextButton aria-expanded={open === i} onClick={() => setOpen(open === i ? undefined : i)}>
                  <Name>{half.id}</Name>
                </TextButton>
              </td>
              <td className="truncate py-1 text-ink-2">
                {row.held[0]?.reason ??
                  writes
                    .map(({ side, field, value }) => `${called[side]} ${field}: ${valueSaid(value)}`)
                    .join(', ')}
              </td>
            </tr>,
            open === i && (
              <tr key={`${i} open`} className="border-b border-line-2">
                <td colSpan={3} className="bg-paper px-2 py-2">
                  {(['a', 'b'] as const).map(side => {
                    const becomes = row.becomes[side]
                    if (!becomes) return null
                    return (
                      <SideBySide
                        key={side}
                        leftTitle={row[side] ? `${called[side]} now` : `Not in ${called[side]} yet`}
                        rightTitle="then"
                        pairs={Object.entries(becomes).map(([name, value]) => {
                          const left = row[side]?.values[name] ?? null
                          return { name, left, right: value, same: left === value }
                        })}
                      />
                    )
                  })}
                  {row.held.map(({ reason, remedy }) => (
                    <p key={reason}>
                      {reason} <span className="text-ink-2">{remedy}</span>
                    </p>
                  ))}
                </td>
              </tr>
            ),
          ]
        })}
      </tbody>
    </table>
  )
}
