/** Rows as CSV in a table of a DuckDB connection, by the types that a lane has at its target. */
import type { Column } from '@tide/core/records/column'
import { randomUUID } from 'node:crypto'
import { createWriteStream } from 'node:fs'
import { rm } from 'node:fs/promises'
import { join } from 'node:path'
import { pipeline } from 'node:stream/promises'
import type { TargetLane } from '../contract/target.ts'
import { turnFields } from '../csv-fields.ts'
import type { DuckdbConnection } from '../duckdb/host.ts'
import { LineMeter } from '../duckdb/line-meter.ts'
import { listTurn } from '../duckdb/lists.ts'
import { isMisfit, misfit } from '../duckdb/misfit.ts'
import { readCsv } from '../duckdb/sql.ts'

/** A row is in memory whole. */
const LARGEST_ROW_BYTES = 120 * 2 ** 20

/** `where`: the lake, for people. `names`: what the columns are called in the temporary table `name`. */
export async function stageCsv(
  { connection, staging, where }: { connection: DuckdbConnection; staging: string; where: string },
  lane: TargetLane,
  { name, columns, names }: { name: string; columns: readonly Column[]; names: readonly string[] },
  csv: AsyncIterable<Uint8Array> | Iterable<Uint8Array>,
): Promise<{ rows: number; bytes: number }> {
  const turns = columns.map(column => listTurn(lane.table, column))
  const content = turns.some(turn => turn) ? turnFields(csv, turns) : csv
  const file = join(staging, `${randomUUID()}.csv`)
  const meter = new LineMeter(LARGEST_ROW_BYTES)
  try {
    await pipeline(async function* () {
      // DuckDB takes a mark at the beginning of a file for none of its first value, which may begin with one.
      yield Buffer.from('\ufeff')
      for await (const part of content) {
        meter.take(Buffer.from(part.buffer, part.byteOffset, part.byteLength))
        yield part
      }
    }, createWriteStream(file))
    const { bytes, longest: longestLine } = meter
    const { read, select } = readCsv({ file, bytes, longestLine }, columns)
    const list = select.map((expression, i) => `${expression} AS ${names[i]}`).join(', ')
    const rows = await connection.run(`CREATE OR REPLACE TEMP TABLE ${name} AS SELECT ${list} FROM ${read}`)
    return { rows, bytes }
  } catch (thrown) {
    if (!isMisfit(thrown)) throw thrown
    const { bytes, longest: longestLine } = meter
    throw await misfit(connection, lane, columns, { file, bytes, longestLine }, thrown, where)
  } finally {
    await rm(file, { force: true })
  }
}
