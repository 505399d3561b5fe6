/** The ledger's history at a target against the ledger itself, which only grows: what was not copied is there, once. */
import type { Rows } from './compare.ts'
import type { Compared } from './world.ts'

export const LEDGER_HISTORY: Compared = {
  name: 'ledger_history',
  columns: ['after_id', 'after_told', 'operation'],
  key: 1,
}

/** `copied`: so many rows of the ledger came with its copy, some of which may have been followed as well. */
export function historyDifference(ledger: Rows, history: Rows, copied: number): number {
  const told = new Map(ledger.map(([id, text]) => [id!, text]))
  const ids = new Set(history.map(([id]) => id!))
  const doubled = history.length - ids.size
  const wrong = history.filter(
    ([id, text, operation]) => operation !== 'insert' || told.get(id!) !== text,
  ).length
  const missing = ledger.filter(([id]) => !ids.has(id!)).length
  return doubled + wrong + Math.max(0, missing - copied)
}
