/** How changes get into a table of PostgreSQL: into a stage beside it by COPY, and from there in one statement. */
import type { NetEffect, Put } from '@tide/core/apply/net-effect'
import type { LaneColumn } from '@tide/core/plan/plan'
import { listLiteral } from '@tide/core/records/list'
import type { Row } from '@tide/core/records/value'
import { Readable } from 'node:stream'
import { pipeline } from 'node:stream/promises'
import type { PoolClient } from 'pg'
import { from as copyFrom } from 'pg-copy-streams'
import type { CopyRange, LaneEffect, TargetLane } from '../../contract.ts'
import { besideRow, csvParts, unsentColumns } from '../../staging.ts'
import { tableName } from '../catalogue.ts'
import { ident } from '../text.ts'
import { columnList, upsert } from './sql.ts'

const PUTS = 'pg_temp.tide_puts'
const REMOVED = 'pg_temp.tide_removed'

const UNIQUE_VIOLATION = '23505'

/** Staged beside a row: which of its columns were not sent, and which row of the batch it is. */
const UNSENT = ident('tide: unsent')
const PLACE = ident('tide: place')
const keyColumn = (i: number) => ident(`tide: key ${i}`)

export class Merger {
  private readonly analyzed = new Set<string>()

  /** Truncate, then rows that go, then rows as they stand in the end. Returns the puts that it could not fill. */
  async apply(client: PoolClient, { lane, effect }: LaneEffect): Promise<Put[]> {
    const { truncate, removed, puts } = effect
    const table = tableName(lane.table)
    if (truncate) await client.query(`TRUNCATE ${table}`)
    let unfilled: Put[] = []
    if (effect.fresh && puts.length > 0 && (await insertFresh(client, lane, puts))) return []
    if (puts.length > 0) {
      const unsent = unsentColumns(puts)
      await stagePuts(client, lane, effect, unsent.length > 0)
      if (unsent.length > 0) unfilled = await this.fillUnsent(client, lane, effect, unsent)
    }
    if (removed.length > 0 && !truncate) {
      await client.query(`CREATE TEMP TABLE ${REMOVED} (${keys(lane).join(', ')}) ON COMMIT DROP`)
      await copyInto(client, REMOVED, csvParts(removed))
      await client.query(`ANALYZE ${REMOVED}`)
      await client.query(`DELETE FROM ${table} t USING ${REMOVED} s WHERE ${matches(lane)}`)
      await client.query(`DROP TABLE ${REMOVED}`)
    }
    if (puts.length > 0) {
      await client.query(upsert(lane, PUTS))
      await client.query(`DROP TABLE ${PUTS}`) // a transaction in many parts must not pile them up
    }
    return unfilled
  }

  private async fillUnsent(
    client: PoolClient,
    lane: TargetLane,
    { puts }: NetEffect,
    unsent: readonly number[],
  ): Promise<Put[]> {
    const table = tableName(lane.table)
    // Nobody else does it for temporary tables, and without it joins with them are planned as if they held next to nothing.
    await client.query(`ANALYZE ${PUTS}`)
    await this.analyzeOnce(client, table)
    for (const i of unsent) {
      const column = ident(lane.columns[i]!.target)
      await client.query(
        `UPDATE ${PUTS} s SET ${column} = t.${column} FROM ${table} t WHERE ${matches(lane)} AND s.${UNSENT} LIKE '%,${i},%'`,
      )
    }
    const missing = await client.query(
      `DELETE FROM ${PUTS} s WHERE ${UNSENT} IS NOT NULL AND NOT EXISTS (SELECT FROM ${table} t WHERE ${matches(lane)}) RETURNING ${PLACE} AS place`,
    )
    return missing.rows.map(({ place }) => puts[Number(place)]!)
  }

  /** A table that has just been copied is not known to the planner yet. */
  private async analyzeOnce(client: PoolClient, table: string): Promise<void> {
    if (this.analyzed.has(table)) return
    await client.query(`ANALYZE ${table}`)
    this.analyzed.add(table)
  }
}

/** Copies rows straight into their table; false, and nothing done, when one of their keys is there in spite of all. */
async function insertFresh(client: PoolClient, lane: TargetLane, puts: readonly Put[]): Promise<boolean> {
  await client.query('SAVEPOINT fresh')
  try {
    await copyInto(
      client,
      `${tableName(lane.table)} (${columnList(lane.columns)})`,
      csvParts(rowsOf(lane, puts)),
    )
    await client.query('RELEASE SAVEPOINT fresh')
    return true
  } catch (error) {
    if ((error as { code?: unknown }).code !== UNIQUE_VIOLATION) throw error
    await client.query('ROLLBACK TO SAVEPOINT fresh')
    return false
  }
}

/** The rows to put; where some values were not sent, with what tells where they are. */
async function stagePuts(
  client: PoolClient,
  lane: TargetLane,
  { puts }: NetEffect,
  partial: boolean,
): Promise<void> {
  const columns = lane.columns.map(({ target, targetType }) => `${ident(target)} ${targetType}`)
  if (partial) columns.push(`${UNSENT} text`, ...keys(lane), `${PLACE} int`)
  await client.query(`CREATE TEMP TABLE ${PUTS} (${columns.join(', ')}) ON COMMIT DROP`)
  const rows = rowsOf(lane, puts)
  await copyInto(client, PUTS, csvParts(partial ? withBeside(rows, puts) : rows))
}

/** The rows as the target reads them. */
function* rowsOf(lane: TargetLane, puts: readonly Put[]): Generator<Row> {
  const delimiters = lane.columns.map(({ type }) =>
    type.kind === 'list' ? (type.delimiter ?? ',') : undefined,
  )
  const lists = delimiters.some(delimiter => delimiter !== undefined)
  for (const { row } of puts) yield lists ? withLists(row, delimiters) : row
}

function* withBeside(rows: Iterable<Row>, puts: readonly Put[]): Generator<Row> {
  let place = 0
  for (const row of rows) yield [...row, ...besideRow(puts[place]!, place++)]
}

function keys(lane: TargetLane): string[] {
  return lane.key.map((name, i) => {
    const { targetType } = lane.columns.find(({ target }) => target === name) as LaneColumn
    return `${keyColumn(i)} ${targetType}`
  })
}

/** That a row of the table (`t`) has the key of a staged one (`s`). */
const matches = (lane: TargetLane) =>
  lane.key.map((name, i) => `t.${ident(name)} = s.${keyColumn(i)}`).join(' AND ')

function withLists(row: Row, delimiters: readonly (string | undefined)[]): Row {
  return row.map((value, i) => {
    const delimiter = delimiters[i]
    return delimiter !== undefined && typeof value === 'string' ? listLiteral(value, delimiter) : value
  })
}

export async function copyInto(
  client: PoolClient,
  into: string,
  csv: CopyRange['csv'],
): Promise<{ rows: number; bytes: number }> {
  const stream = client.query(copyFrom(`COPY ${into} FROM STDIN (FORMAT csv)`))
  let bytes = 0
  const counted = async function* () {
    for await (const part of csv) {
      bytes += part.length
      yield part
    }
  }
  await pipeline(Readable.from(counted(), { objectMode: false }), stream)
  return { rows: stream.rowCount, bytes }
}
