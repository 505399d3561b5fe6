import type { SendForeseen } from '@tide/core/api/send'
import { count, plural } from '../format.ts'
import { Figure } from '../parts/Figure.tsx'

/** What a run would do, in figures; the largest thing is what is to be decided about. */
export function ForeseenFigures({ foreseen }: { foreseen: SendForeseen }) {
  const { create, change, remove, unchanged, held, left } = foreseen.counts
  return (
    <dl className="flex flex-wrap gap-y-2 py-2">
      <Figure label="to create" value={count(create)} />
      <Figure label="to change" value={count(change)} />
      <Figure
        label="to remove"
        value={<span className={remove > 0 ? 'text-buoy' : ''}>{count(remove)}</span>}
      />
      <Figure label="held back" value={<span className={held > 0 ? 'text-buoy' : ''}>{count(held)}</span>} />
      {left > 0 && <Figure label="left alone" value={count(left)} />}
      <Figure label="as they are" value={count(unchanged)} />
    </dl>
  )
}

export function Meets({ meets }: { meets: SendForeseen['meets'] }) {
  if (!meets) return null
  const { one, none, several } = meets
  return (
    <>
      Of the new rows {count(one)} meet one record, {count(none)} meet none
      {several > 0 && <b className="text-buoy">, {count(several)} meet several</b>}.
    </>
  )
}

export function Reasons({ reasons }: { reasons: SendForeseen['reasons'] }) {
  if (reasons.length === 0) return null
  return (
    <ul className="my-2 space-y-1 text-[13px]" aria-label="Why rows are not sent">
      {reasons.map(({ field, reason, remedy, rows }) => (
        <li key={`${field} ${reason}`} className="border-l-3 border-ochre bg-ochre-paper px-2.5 py-1">
          <b>{plural(rows, 'row')}</b>
          {field && <span className="font-mono text-[12px]"> {field}</span>}: {reason}{' '}
          <span className="text-ink-2">{remedy}</span>
        </li>
      ))}
    </ul>
  )
}
