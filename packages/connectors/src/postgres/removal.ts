/** Rows that are taken away from PostgreSQL, each only as it was read. */
import { Failure } from '@tide/core/failure'
import { printName, type DatasetName } from '@tide/core/records/dataset'
import { linesTogether } from '@tide/core/records/csv-lines'
import { csvRows } from '@tide/core/records/csv-rows'
import type { Pool, PoolClient } from 'pg'
import type { OrderedTable } from '../contract/records.ts'
import { REMOVED_TOGETHER, type Removal } from '../contract/removal.ts'
import { CAPTURE_SCHEMA, foreignKeyColumns, tableName } from './catalogue.ts'
import { PIN } from './copy.ts'
import { UNHEARD } from './log/decoder.ts'
import { ident, literal } from './text.ts'
import { inTransaction } from './transaction.ts'

/** From here on a reader of the log is sent messages that stand in it. */
const TELLS_MESSAGES = 140_000

/** Who refers to a table, by which columns to which, and what becomes of them with its rows: `a` and `r` forbid that they go. */
const REFERRING = `
SELECT n.nspname AS namespace, c.relname AS name, f.confdeltype AS deletes,
       ${foreignKeyColumns('con')} AS columns, ${foreignKeyColumns('conf')} AS refers
  FROM pg_catalog.pg_constraint f
  JOIN pg_catalog.pg_class c ON c.oid = f.conrelid
  JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
 WHERE f.contype = 'f' AND f.conparentid = 0 AND f.confrelid = to_regclass($1)`

interface Referring {
  namespace: string
  name: string
  deletes: string
  columns: string
  refers: string
}

export function postgresRemoval(
  pool: Pool,
  isPartitioned: (table: DatasetName) => Promise<boolean>,
  guard: <T>(work: Promise<T>) => Promise<T>,
): Removal {
  return {
    inspect: (table, unheard) => guard(inspect(pool, table, unheard)),
    remove: async (table, lines, unheard) => {
      // Before the transaction, which a source of one session has all to itself.
      const only = (await guard(isPartitioned(table.dataset))) ? '' : 'ONLY '
      const from = `${only}${tableName(table.dataset)}`
      let gone = 0
      for (const some of linesTogether(lines, REMOVED_TOGETHER))
        gone += await guard(
          inTransaction(pool, async client => {
            const referring = await referringTo(client, table.dataset)
            refuseCascades(table.dataset, referring)
            await client.query(PIN)
            if (unheard) await tellNobody(client)
            const removed = await remove(client, from, table, some, referring)
            if (unheard) await forgetChanges(client, table.dataset)
            return removed
          }),
        )
      return gone
    },
  }
}

async function inspect(pool: Pool, table: DatasetName, unheard: boolean): Promise<void> {
  await inTransaction(pool, async client => {
    refuseCascades(table, await referringTo(client, table))
    if (unheard && (await versionOf(client)) < TELLS_MESSAGES)
      throw new Failure(
        'structural',
        'This server’s log cannot say which deletions are of archived rows; that is so from version 14 on.',
        'Let the rows go from the other targets as well.',
      )
  })
}

async function versionOf(client: PoolClient): Promise<number> {
  return Number(
    (await client.query(`SELECT current_setting('server_version_num') AS version`)).rows[0].version,
  )
}

async function referringTo(client: PoolClient, table: DatasetName): Promise<Referring[]> {
  return (await client.query<Referring>(REFERRING, [tableName(table)])).rows
}

function refuseCascades(table: DatasetName, referring: readonly Referring[]): void {
  const other = referring.find(({ deletes }) => deletes !== 'a' && deletes !== 'r')
  if (!other) return
  throw new Failure(
    'structural',
    other.deletes === 'c'
      ? `With the rows of ${printName(table)} those of ${printName(other)} would be deleted that refer to them (ON DELETE CASCADE).`
      : `With the rows of ${printName(table)} what refers to them in ${printName(other)} would be changed (ON DELETE SET …).`,
    `Archive ${printName(other)} first, and let its constraint forbid that rows go which are referred to.`,
  )
}

/** A message in the log ahead of what the transaction deletes; see `PgoutputDecoder`. */
async function tellNobody(client: PoolClient): Promise<void> {
  if ((await versionOf(client)) < TELLS_MESSAGES) return
  await client.query(`SELECT pg_catalog.pg_logical_emit_message(true, ${literal(UNHEARD)}, '')`)
}

/** What triggers have put down of it goes with the transaction that did it. */
async function forgetChanges(client: PoolClient, table: DatasetName): Promise<void> {
  const changes = `${CAPTURE_SCHEMA}.change`
  const { rows } = await client.query(`SELECT to_regclass(${literal(changes)}) IS NOT NULL AS there`)
  if (rows[0].there !== 't') return
  await client.query(
    `DELETE FROM ${changes} WHERE xid = pg_current_xact_id() AND op = 'd' AND relation = to_regclass($1)`,
    [tableName(table)],
  )
}

/** Each line is held against what the server itself would print of the row, so that what only compares as equal is another one. */
async function remove(
  client: PoolClient,
  from: string,
  table: OrderedTable,
  lines: Uint8Array,
  referring: readonly Referring[],
): Promise<number> {
  const { columns, key, quoted } = table
  const places = key.map(name => columns.findIndex(column => column.name === name))
  const rows = csvRows(lines)
  const ofKey = key.map((name, i) => `t.${ident(name)} = v.k${i}::${columns[places[i]!]!.nativeType}`)
  const printed = columns.map(({ name }, i) => {
    const column = `t.${ident(name)}`
    const text = `pg_catalog.concat(${column})`
    return quoted[i]
      ? `CASE WHEN ${column} IS NULL THEN '' ELSE '"' || pg_catalog.replace(${text}, '"', '""') || '"' END`
      : text
  })
  const unreferred = referring.map(({ namespace, name, columns: own, refers }) => {
    const [mine, theirs] = [JSON.parse(own) as string[], JSON.parse(refers) as string[]]
    const equal = mine.map((column, i) => `r.${ident(column)} = t.${ident(theirs[i]!)}`).join(' AND ')
    return `NOT EXISTS (SELECT FROM ${tableName({ namespace, name })} r WHERE ${equal})`
  })
  const same = `${printed.join(` || ',' || `)} = v.line COLLATE "C"`
  const keys = places.map((_, i) => `$${i + 2}::text[]`)
  const { rowCount } = await client.query(
    `DELETE FROM ${from} t USING unnest($1::text[], ${keys.join(', ')}) AS v(line, ${places.map((_, i) => `k${i}`).join(', ')})
      WHERE ${[...ofKey, same, ...unreferred].join(' AND ')}`,
    [[...linesOf(lines)], ...places.map(place => rows.map(row => row[place]))],
  )
  return rowCount ?? 0
}

/** Each without its end. */
function* linesOf(lines: Uint8Array): Generator<string> {
  for (const one of linesTogether(lines, 1))
    yield Buffer.from(one.buffer, one.byteOffset, one.length - 1).toString()
}
