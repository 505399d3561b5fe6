/** Parquet files, made by DuckDB of rows that are put aside as CSV. */
import type { LandedFiles } from '@tide/core/definition/files'
import type { Column } from '@tide/core/records/column'
import { randomUUID } from 'node:crypto'
import { createReadStream } from 'node:fs'
import { open, rm, type FileHandle } from 'node:fs/promises'
import { join } from 'node:path'
import { turnFields } from '../csv-fields.ts'
import { duckdbFailure } from '../duckdb/errors.ts'
import { LineMeter } from '../duckdb/line-meter.ts'
import { listTurn } from '../duckdb/lists.ts'
import { isMisfit, misfit } from '../duckdb/misfit.ts'
import type { TargetLane } from '../contract/target.ts'
import { ident, literal, readCsv } from '../duckdb/sql.ts'
import type { LakeEngine } from './engine.ts'

/** A row is in memory whole while it is turned. */
const LARGEST_ROW_BYTES = 120 * 2 ** 20
const ROWS_IN_A_GROUP = 100_000

export interface MakingParquet {
  /** Of the CSV so far. */
  readonly bytes: number
  /** Takes rows as CSV. The parts end with a line all together; each of them may end within one. */
  csv(parts: AsyncIterable<Uint8Array> | Iterable<Uint8Array>): Promise<void>
  /** Makes the file and hands its bytes on; returns how many rows it has. */
  finish(store: (body: AsyncIterable<Uint8Array>) => Promise<void>): Promise<number>
  abort(): Promise<void>
}

export class Parquet {
  private readonly engine: LakeEngine
  private readonly where: string

  constructor(engine: LakeEngine, where: string) {
    this.engine = engine
    this.where = where
  }

  /** `more`: further options of what DuckDB writes. */
  begin(
    lane: TargetLane,
    columns: readonly Column[],
    compress: LandedFiles['compress'],
    more = '',
  ): MakingParquet {
    return new Making(this.engine, this.where, lane, columns, compress, more)
  }
}

class Making implements MakingParquet {
  bytes = 0
  private readonly engine: LakeEngine
  private readonly where: string
  private readonly lane: TargetLane
  private readonly columns: readonly Column[]
  private readonly compress: LandedFiles['compress']
  private readonly more: string
  private readonly name = randomUUID()
  private readonly meter = new LineMeter(LARGEST_ROW_BYTES)
  private file: FileHandle | undefined
  private readonly turns

  constructor(
    engine: LakeEngine,
    where: string,
    lane: TargetLane,
    columns: readonly Column[],
    compress: LandedFiles['compress'],
    more: string,
  ) {
    this.more = more
    this.lane = lane
    this.engine = engine
    this.where = where
    this.columns = columns
    this.compress = compress
    this.turns = columns.map(column => listTurn(lane.table, column))
  }

  async csv(parts: AsyncIterable<Uint8Array> | Iterable<Uint8Array>): Promise<void> {
    const turned = this.turns.some(turn => turn) ? turnFields(parts, this.turns) : parts
    for await (const part of turned) {
      if (!this.file) {
        this.file = await open(await this.at('csv'), 'wx')
        // DuckDB takes a mark at the beginning of a file for none of its first value, which may begin with one.
        await this.file.write(Buffer.from('\ufeff'))
      }
      this.meter.take(Buffer.from(part.buffer, part.byteOffset, part.byteLength))
      await this.file.write(part)
      this.bytes += part.length
    }
  }

  async finish(store: (body: AsyncIterable<Uint8Array>) => Promise<void>): Promise<number> {
    const [csv, made] = [await this.at('csv'), await this.at('parquet')]
    this.file ??= await open(csv, 'wx')
    await this.file.close()
    const { bytes, longest: longestLine } = this.meter
    const file = { file: csv, bytes, longestLine }
    const { read, select } = readCsv(file, this.columns)
    const list = select.map((expression, i) => `${expression} AS ${ident(this.columns[i]!.name)}`).join(', ')
    const compression = this.compress === 'none' ? 'uncompressed' : this.compress
    try {
      const rows = await this.engine.with(connection =>
        connection.run(
          `COPY (SELECT ${list} FROM ${read}) TO ${literal(made)} (FORMAT parquet, COMPRESSION ${compression}, ROW_GROUP_SIZE ${ROWS_IN_A_GROUP}${this.more})`,
        ),
      )
      await store(createReadStream(made))
      return rows
    } catch (thrown) {
      if (isMisfit(thrown))
        throw await this.engine.with(connection =>
          misfit(connection, this.lane, this.columns, file, thrown, this.where),
        )
      throw duckdbFailure(thrown, this.where)
    } finally {
      await this.remove()
    }
  }

  async abort(): Promise<void> {
    await this.file?.close().catch(() => {})
    await this.remove()
  }

  private async remove(): Promise<void> {
    for (const end of ['csv', 'parquet']) await rm(await this.at(end), { force: true })
  }

  private async at(end: string): Promise<string> {
    return join(await this.engine.staging(), `${this.name}.${end}`)
  }
}
