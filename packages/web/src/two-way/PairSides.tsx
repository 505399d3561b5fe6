import type { PairSeen, SeenHalf } from '@tide/core/api/two-way'
import type { TwoWayDefinition } from '@tide/core/definition/two-way'
import { laneName } from '@tide/core/definition/two-way'
import { moment } from '../format.ts'
import { joinName, valueSaid, type Called } from './said.ts'

/** Both halves of a pair, a field pair a line; what is held, and what is not said alike, is marked. */
export function PairSides({
  pair,
  definition,
  called,
}: {
  pair: PairSeen
  definition: TwoWayDefinition
  called: Called
}) {
  const lane = definition.lanes.find(one => laneName(one) === pair.lane)
  if (!lane) return <p className="text-ink-2">Its lane is no longer in the setup.</p>
  return (
    <table className="w-full table-fixed border-collapse text-[13px]" aria-label="Both halves">
      <thead>
        <tr className="border-b border-line-2 text-left text-[12px] text-ink-2">
          <th scope="col" className="py-1.5 font-semibold">
            <HalfSaid called={called.a} half={pair.a} />
          </th>
          <th scope="col" className="py-1.5 pl-3 font-semibold">
            <HalfSaid called={called.b} half={pair.b} />
          </th>
        </tr>
      </thead>
      <tbody>
        {lane.fields.map(join => {
          const name = joinName(join)
          const held = pair.held.find(one => one.join === name)
          const cell = `py-1 align-top break-words ${held ? 'bg-ochre-paper' : ''}`
          return (
            <tr key={name} className="border-b border-line">
              <td className={`${cell} pr-3`}>
                <span className="font-mono text-[12px] text-ink-2">{join.a}</span>{' '}
                <span className="whitespace-pre-line">
                  {pair.a && valueSaid(pair.a.values[join.a] ?? null)}
                </span>
              </td>
              <td className={`${cell} pl-3`}>
                <span className="font-mono text-[12px] text-ink-2">{join.b}</span>{' '}
                <span className="whitespace-pre-line">
                  {pair.b && valueSaid(pair.b.values[join.b] ?? null)}
                </span>
                {held && <b className="text-buoy"> held</b>}
              </td>
            </tr>
          )
        })}
      </tbody>
    </table>
  )
}

function HalfSaid({ called, half }: { called: string; half: SeenHalf | null }) {
  if (!half) return <>{called}: none</>
  return (
    <>
      {called} <span className="font-mono">{half.id}</span>
      {half.changedAt !== null && (
        <span className="font-normal">, changed {moment(new Date(half.changedAt).toISOString())}</span>
      )}
    </>
  )
}
