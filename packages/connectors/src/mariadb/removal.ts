/** Rows that are taken away from MariaDB, each only as it was read. */
import { Failure } from '@tide/core/failure'
import { printName, type DatasetName } from '@tide/core/records/dataset'
import { linesTogether } from '@tide/core/records/csv-lines'
import { csvRows } from '@tide/core/records/csv-rows'
import { sameValue } from '@tide/core/records/same'
import { keyOf, keyText, type Row } from '@tide/core/records/value'
import type { KeyedTable } from '../contract/records.ts'
import { REMOVED_TOGETHER, type Removal } from '../contract/removal.ts'
import type { Session } from './client.ts'
import { readLocked } from './rows.ts'
import { ident, keyLiteral, literal, tableName } from './sql.ts'

interface Referring {
  namespace: string
  name: string
  /** What becomes of them with the rows that they refer to. */
  deletes: string
  /** Pairs of columns, theirs and the table's. */
  pairs: [string, string][]
}

export function mariadbRemoval(within: <T>(body: (session: Session) => Promise<T>) => Promise<T>): Removal {
  return {
    inspect: (table, unheard) =>
      within(async session => {
        refuseCascades(table, await referringTo(session, table))
        if (!unheard) return
        await tellNobody(session)
      }),
    remove: (table, lines, unheard) =>
      within(async session => {
        const referring = await referringTo(session, table.dataset)
        refuseCascades(table.dataset, referring)
        if (unheard) await tellNobody(session)
        let gone = 0
        for (const some of linesTogether(lines, REMOVED_TOGETHER)) {
          await session.run('START TRANSACTION')
          gone += await remove(session, table, csvRows(some), referring)
          await session.run('COMMIT')
        }
        return gone
      }),
  }
}

/** What the session changes is marked in the binary log; see `BinlogDecoder`. Replicas take no notice, unless they are told to. */
async function tellNobody(session: Session): Promise<void> {
  try {
    await session.run('SET SESSION skip_replication = 1')
  } catch (cause) {
    throw new Failure(
      'structural',
      'The account cannot mark deletions of archived rows in the log: it lacks the right to set skip_replication.',
      'Grant it REPLICATION SLAVE ADMIN, or let the rows go from the other targets as well.',
      cause,
    )
  }
}

async function referringTo(session: Session, { namespace, name }: DatasetName): Promise<Referring[]> {
  const rows = await session.arrays(
    `SELECT k.CONSTRAINT_NAME, k.TABLE_SCHEMA, k.TABLE_NAME, r.DELETE_RULE, k.COLUMN_NAME, k.REFERENCED_COLUMN_NAME
       FROM information_schema.KEY_COLUMN_USAGE k
       JOIN information_schema.REFERENTIAL_CONSTRAINTS r
         ON r.CONSTRAINT_SCHEMA = k.CONSTRAINT_SCHEMA AND r.CONSTRAINT_NAME = k.CONSTRAINT_NAME AND r.TABLE_NAME = k.TABLE_NAME
      WHERE k.REFERENCED_TABLE_SCHEMA = ${literal(namespace)} AND k.REFERENCED_TABLE_NAME = ${literal(name)}
      ORDER BY k.TABLE_SCHEMA, k.TABLE_NAME, k.CONSTRAINT_NAME, k.ORDINAL_POSITION`,
  )
  const found = new Map<string, Referring>()
  for (const [constraint, schema, table, deletes, column, refers] of rows) {
    const id = JSON.stringify([schema, table, constraint])
    const one = found.get(id) ?? { namespace: schema!, name: table!, deletes: deletes!, pairs: [] }
    one.pairs.push([column!, refers!])
    found.set(id, one)
  }
  return [...found.values()]
}

function refuseCascades(table: DatasetName, referring: readonly Referring[]): void {
  const other = referring.find(({ deletes }) => deletes !== 'RESTRICT' && deletes !== 'NO ACTION')
  if (!other) return
  throw new Failure(
    'structural',
    `With the rows of ${printName(table)} those of ${printName(other)} that refer to them would be changed (ON DELETE ${other.deletes}).`,
    `Archive ${printName(other)} first, and let its constraint forbid that rows go which are referred to.`,
  )
}

/** Looks at the rows under a lock, so that nobody changes them until they are gone. */
async function remove(
  session: Session,
  table: KeyedTable,
  rows: readonly Row[],
  referring: readonly Referring[],
): Promise<number> {
  const { dataset, columns, key } = table
  const places = key.map(name => columns.findIndex(column => column.name === name))
  const unreferred = referring.map(({ pairs, ...other }) => {
    const equal = pairs.map(([own, refers]) => `r.${ident(own)} = ${tableName(dataset)}.${ident(refers)}`)
    return `NOT EXISTS (SELECT 1 FROM ${tableName(other)} r WHERE ${equal.join(' AND ')})`
  })
  const keys = rows.map(row => keyOf(row, places))
  const there = await readLocked(session, table, keys, unreferred)
  const standing = new Map(there.map(row => [keyText(keyOf(row, places)), row]))
  const gone = rows.flatMap((row, n) => {
    const now = standing.get(keyText(keys[n]!))
    return now?.every((value, i) => sameValue(value, row[i] ?? null, columns[i]!.type)) ? [n] : []
  })
  if (gone.length === 0) return 0
  const tuples = gone.map(
    n =>
      `(${keys[n]!.map((value, i) => keyLiteral(value, columns[places[i]!]!.type, columns[places[i]!]!.nativeType)!).join(', ')})`,
  )
  await session.run(
    `DELETE FROM ${tableName(dataset)} WHERE (${key.map(ident).join(', ')}) IN (${tuples.join(', ')})`,
  )
  return gone.length
}
