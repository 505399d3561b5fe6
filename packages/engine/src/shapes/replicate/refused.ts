/** Rows that a landing goes without, since the target will not take them. */
import { printName } from '@tide/core/records/dataset'
import type { Folded } from '@tide/core/apply/effect'
import type { Failure } from '@tide/core/failure'
import { keyText, type Key } from '@tide/core/records/value'
import type { HeldRow, Holding } from './holding.ts'
import type { WorkingLane } from './lanes.ts'

/** Others may change the target while it is looked at. */
export const TRIES = 3

/** Some rows will not go in: misfits, or what the target has refused, which is the cause. */
export class NotAll extends Error {}

/** By lane and key, why a row is refused. */
export type RefusedRows = Map<string, Why>
export type Why = Pick<HeldRow, 'column' | 'reason' | 'remedy'>

export const refusedId = ({ index }: WorkingLane, identity: Key) => `${index} ${keyText(identity)}`

/** Keys of rows that were held and stand there now. */
export function noteLanded(
  landed: Map<number, Key[] | 'all'>,
  folds: ReadonlyMap<WorkingLane, Folded>,
  holding: Holding,
  kept: Map<string, HeldRow>,
): void {
  for (const [lane, fold] of folds) {
    const { index } = lane
    if (fold.truncate) {
      landed.set(index, 'all')
      for (const [id, row] of kept) if (row.lane === lane) kept.delete(id)
    }
    for (const { identity } of fold.keys) {
      const id = refusedId(lane, identity)
      if (!kept.delete(id) && !holding.differs(lane, identity)) continue
      const keys = landed.get(index)
      if (keys === 'all') continue
      if (keys) keys.push(identity)
      else landed.set(index, [identity])
    }
  }
}

/** Without those that are held in the end. */
export function stillLanded(
  landed: ReadonlyMap<number, Key[] | 'all'>,
  kept: readonly HeldRow[],
): Map<number, Key[] | 'all'> {
  if (kept.length === 0) return new Map(landed)
  const held = new Set(kept.map(({ lane, state }) => refusedId(lane, state.identity)))
  return new Map(
    [...landed].map(([index, keys]) => [
      index,
      keys === 'all' ? keys : keys.filter(key => !held.has(`${index} ${keyText(key)}`)),
    ]),
  )
}

/** What a target says of a row, without the table and the key, which are told beside it. */
export function whyOf({ target }: WorkingLane, { message }: Failure): Why {
  const table = printName(target.table)
  const column = target.columns.find(({ name }) => message.startsWith(`${table}.${name}: `))?.name ?? null
  const where = column === null ? `${table}: ` : `${table}.${column}: `
  const said = message.startsWith(where) ? message.slice(where.length) : message
  const reason = said.replace(/, in the row with .*$/s, '').replace(/\.$/, '')
  return { column, reason, remedy: REFUSED_REMEDY }
}

const REFUSED_REMEDY = 'Correct it at the source, or here for the target alone, or let it be.'
export const MISFIT_REMEDY = 'Correct the row at the source, or change how the column is made.'
