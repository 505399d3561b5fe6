/** Whether a table is still what it was planned as, seen at the description that its log gives before its rows. */
import type { KeyedTable } from '@tide/connectors/contract/records'
import { Failure } from '@tide/core/failure'
import { datasetId, printName } from '@tide/core/records/dataset'
import { ALTERED, type LoggedRelation } from '@tide/core/records/relation'
import type { ReadAs } from '@tide/journal/reader'
import type { FollowedTable } from './followed.ts'

/** How the table's rows are read; `undefined`: by none of these. Throws a Failure when it is another table by now. */
export function readAs(tables: readonly FollowedTable[], relation: LoggedRelation): ReadAs | undefined {
  const { dataset, columns, identity } = relation
  const index = tables.findIndex(table => datasetId(table.dataset) === datasetId(dataset))
  const table = tables[index]
  if (!table) return undefined
  if (columns.length === 0) {
    throw new Failure(
      'structural',
      `The table ${printName(dataset)} was dropped, renamed or made anew at the source.`,
      'Start again: the tables are copied anew; leave it out in the setup if it is gone.',
    )
  }
  const places = table.columns.map(({ name }) => columns.findIndex(column => column.name === name))
  const changed = table.columns.find((column, i) => columns[places[i]!]?.nativeType !== column.nativeType)
  const { leftOut = [] } = table
  const known = new Set(table.columns.map(({ name }) => name))
  const added = columns.find(
    ({ name }) => leftOut !== 'whatever else' && !known.has(name) && !leftOut.includes(name),
  )
  if (changed || added) {
    const altered = columns.every(({ nativeType }) => nativeType === ALTERED)
    throw new Failure(
      'structural',
      `The columns of ${printName(dataset)} were changed at the source${altered ? '' : `: ${changed ? changed.name : `${added!.name} is new`}`}.`,
      'Start again: the tables are copied anew with the columns they have now.',
    )
  }
  refuseWithoutKey(table, identity)
  return { lane: index, columns: places, since: table.since }
}

/** A log that does not tell the key says of an update neither which row it was, nor whether its key has changed. */
function refuseWithoutKey({ dataset, key }: KeyedTable, identity: readonly string[] | undefined): void {
  const untold = identity && key.find(name => !identity.includes(name))
  if (untold === undefined) return
  throw new Failure(
    'structural',
    `The replica identity of ${printName(dataset)} was changed at the source: its log no longer tells the old ${untold}, which is part of the key.`,
    `Give it one with ${key.join(', ')} in it (ALTER TABLE … REPLICA IDENTITY …) and start again: the tables are copied anew.`,
  )
}
