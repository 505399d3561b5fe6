import { Turns } from '@tide/core/pace/turns'
import { Failure } from '@tide/core/failure'
import type { Column } from '@tide/core/records/column'
import type { PrepareStep } from '@tide/core/plan/steps'
import type { TargetProfile } from '@tide/core/plan/input'
import { printName } from '@tide/core/records/dataset'
import { createWriteStream } from 'node:fs'
import { rm } from 'node:fs/promises'
import { join } from 'node:path'
import { pipeline } from 'node:stream/promises'
import type { ApplyTransaction, CommitLoad, TargetLane, TargetSide, Unfilled } from '../contract/target.ts'
import { checkpointOf, type Checkpoint } from '@tide/core/checkpoint/checkpoint'
import type { CopyRange } from '../contract/source.ts'
import { overtaken, rowRead } from '../checkpoint.ts'
import { AS_THEY_COME } from '../gathering.ts'
import { merge, type MergeSteps } from '../merge.ts'
import { duckdbFailure } from './errors.ts'
import { turnFields } from '../csv-fields.ts'
import type { DuckdbConnection, HostValue } from './host.ts'
import type { Lease } from './instance.ts'
import { LineMeter, RecordTooLong } from './line-meter.ts'
import { listTurn } from './lists.ts'
import { DuckdbMerge, STAGES } from './merge.ts'
import { isMisfit, misfit } from './misfit.ts'
import {
  CHECKPOINTS,
  columnList,
  ddl,
  emptied,
  ident,
  ofPart,
  readCsv,
  type CsvFile,
  STATE_DDL,
  STATE_SCHEMA,
  tableName,
} from './sql.ts'

let files = 0

/** DuckDB reads a row whole, and keeps a value in the next power of two, in the memory it has (see `instance.ts`). */
const LARGEST_ROW_BYTES = 120 * 2 ** 20

const MARK = Buffer.from('\ufeff')

/** Writes through one connection of its own: transactions take turns, for two would both write the checkpoint and fail. */
export class DuckdbTarget implements TargetSide {
  readonly profile: TargetProfile
  readonly gathering = AS_THEY_COME
  private writer: Promise<DuckdbConnection> | undefined
  private readonly lease: Lease
  private readonly where: string
  private readonly turns = new Turns()

  constructor(lease: Lease, profile: TargetProfile, where: string) {
    this.lease = lease
    this.profile = profile
    this.where = where
  }

  ddl(steps: readonly PrepareStep[]): string[] {
    return steps.flatMap(ddl)
  }

  async prepare(steps: readonly PrepareStep[], checkpoint: Checkpoint): Promise<void> {
    await this.transaction(async () => {
      for (const statement of STATE_DDL) await this.run(statement)
      await this.run(CHECKPOINTS.clear(checkpoint))
      if (await this.readCheckpoint(checkpoint.pipeline)) throw overtaken()
      for (const statement of this.ddl(steps)) await this.run(statement)
      await this.run(CHECKPOINTS.insert(checkpoint))
    })
  }

  make(_pipeline: string, steps: readonly PrepareStep[]): Promise<void> {
    return this.transaction(async () => {
      for (const statement of this.ddl(steps)) await this.run(statement)
    })
  }

  change(steps: readonly PrepareStep[], again: readonly TargetLane[], checkpoint: Checkpoint): Promise<void> {
    return this.transaction(async () => {
      for (const statement of this.ddl(steps)) await this.run(statement)
      for (const lane of again) await this.run(emptied(lane))
      await this.writeCheckpoint(checkpoint)
    })
  }

  async load(lane: TargetLane, { csv }: CopyRange, again: boolean, commit: CommitLoad): Promise<void> {
    await this.withFile(lane, lane.columns, csv, csvFile =>
      this.turns.run(async () => {
        try {
          await this.run('BEGIN TRANSACTION')
          const rows = await this.insertRange(lane, csvFile, again)
          await commit({ rows, bytes: csvFile.bytes }, async checkpoint => {
            await this.writeCheckpoint(checkpoint)
            await this.run('COMMIT')
          })
          await this.lease.loaded(csvFile.bytes)
        } catch (error) {
          await this.run('ROLLBACK').catch(() => {}) // DuckDB may have rolled back by itself
          throw duckdbFailure(error, this.where)
        }
      }),
    )
  }

  private async insertRange(lane: TargetLane, file: CsvFile, again: boolean): Promise<number> {
    const table = tableName(lane.table)
    const into = `INSERT INTO ${table} (${columnList(lane.columns)})`
    if (!again) return this.insertCsv(into, lane, lane.columns, file)
    // Read twice, so that a large range need not be kept in memory.
    const { read, select } = readCsv(file, lane.columns)
    const key = lane.key.map((name, i) => `${select[indexOf(lane, name)]} AS k${i}`).join(', ')
    const own = lane.key.map((name, i) => `t.${ident(name)} = again.k${i}`).join(' AND ')
    await this.run(`DELETE FROM ${table} t USING (SELECT ${key} FROM ${read}) again WHERE ${own}`)
    return this.insertCsv(into, lane, lane.columns, file)
  }

  async begin(): Promise<ApplyTransaction> {
    const end = await this.turns.take()
    try {
      await this.run('BEGIN TRANSACTION')
    } catch (error) {
      end()
      throw duckdbFailure(error, this.where)
    }
    return {
      apply: async effects => {
        const unfilled: Unfilled[] = []
        try {
          for (const { lane, effect } of effects) {
            const puts = await merge(effect, this.mergeOf(lane))
            for (const put of puts) unfilled.push({ lane, put })
          }
          return unfilled
        } catch (error) {
          throw duckdbFailure(error, this.where)
        }
      },
      commit: async checkpoint => {
        try {
          await this.writeCheckpoint(checkpoint)
          await this.run('COMMIT')
          for (const stage of STAGES) await this.run(`DROP TABLE IF EXISTS temp.${stage}`)
        } catch (error) {
          throw duckdbFailure(error, this.where)
        }
        end()
      },
      rollback: async () => {
        await this.run('ROLLBACK').catch(() => {}) // DuckDB may have rolled back by itself
        end()
      },
    }
  }

  async readCheckpoint(pipeline: string): Promise<Checkpoint | undefined> {
    const there = await this.ask(
      `SELECT 1 FROM duckdb_tables() WHERE schema_name = $1 AND table_name = 'checkpoint'`,
      [STATE_SCHEMA],
    )
    if (there.length === 0) return undefined
    const [row] = await this.ask(CHECKPOINTS.read(pipeline))
    return row && checkpointOf(pipeline, rowRead(row as string[]))
  }

  async takeCheckpoint(pipeline: string, epoch: number, freshFrom: number): Promise<Checkpoint | undefined> {
    const found = await this.readCheckpoint(pipeline)
    if (!found || found.epoch < freshFrom) return undefined
    await this.run(CHECKPOINTS.raise(pipeline, epoch))
    return this.readCheckpoint(pipeline)
  }

  async empty(lanes: readonly TargetLane[], checkpoint: Checkpoint): Promise<void> {
    await this.transaction(async () => {
      for (const lane of lanes) await this.run(emptied(lane))
      await this.writeCheckpoint(checkpoint)
    })
  }

  async forget(pipeline: string): Promise<void> {
    if (!(await this.readCheckpoint(pipeline))) return
    await this.run(CHECKPOINTS.forget(pipeline))
  }

  async count({ table, part }: TargetLane): Promise<number> {
    // Beside the writer, who would have to wait.
    const connection = await this.lease.connect()
    try {
      const [counted] = await connection.ask(
        `SELECT count(*)::VARCHAR FROM ${tableName(table)}${ofPart(part)}`,
      )
      return Number(counted![0])
    } catch (error) {
      throw duckdbFailure(error, this.where)
    } finally {
      await this.lease.disconnect(connection)
    }
  }

  private mergeOf(lane: TargetLane): MergeSteps {
    return new DuckdbMerge(lane, {
      run: sql => this.run(sql),
      ask: sql => this.ask(sql),
      append: csv =>
        this.withFile(lane, lane.columns, csv, async file => {
          const into = `INSERT INTO ${tableName(lane.table)} (${columnList(lane.columns)})`
          await this.insertCsv(into, lane, lane.columns, file)
        }),
      stage: (name, columns, names, csv) =>
        this.withFile(lane, columns, csv, async file => {
          await this.insertCsv(`CREATE OR REPLACE TEMP TABLE ${name} AS`, lane, columns, file, names)
        }),
    })
  }

  /** Runs `into` with a SELECT over the file; returns how many rows that were. A value that does not fit is named. */
  private async insertCsv(
    into: string,
    lane: TargetLane,
    columns: readonly Column[],
    file: CsvFile,
    names?: readonly string[],
  ): Promise<number> {
    const { read, select } = readCsv(file, columns)
    const list = names ? select.map((expression, i) => `${expression} AS ${names[i]}`) : select
    try {
      return await this.run(`${into} SELECT ${list.join(', ')} FROM ${read}`)
    } catch (error) {
      if (!isMisfit(error)) throw error
      // On a connection of its own, since the transaction has failed.
      const connection = await this.lease.connect()
      try {
        throw await misfit(connection, lane, columns, file, error, this.where)
      } finally {
        await this.lease.disconnect(connection)
      }
    }
  }

  private async writeCheckpoint(checkpoint: Checkpoint): Promise<void> {
    const written = await this.run(CHECKPOINTS.write(checkpoint))
    if (written === 0) throw overtaken()
  }

  /** Opened with the first write: who only plans or browses holds none. */
  private connection(): Promise<DuckdbConnection> {
    return (this.writer ??= this.lease.connect())
  }

  private async run(sql: string, values?: string[]): Promise<number> {
    return (await this.connection()).run(sql, values)
  }

  private async ask(sql: string, values?: string[]): Promise<HostValue[][]> {
    return (await this.connection()).ask(sql, values)
  }

  async close(): Promise<void> {
    if (this.writer) await this.lease.disconnect(await this.writer)
  }

  private transaction(body: () => Promise<void>): Promise<void> {
    return this.turns.run(async () => {
      try {
        await this.run('BEGIN TRANSACTION')
        await body()
        await this.run('COMMIT')
      } catch (error) {
        await this.run('ROLLBACK').catch(() => {}) // DuckDB may have rolled back by itself
        throw duckdbFailure(error, this.where)
      }
    })
  }

  private async withFile(
    { table }: TargetLane,
    columns: readonly Column[],
    csv: CopyRange['csv'],
    body: (file: CsvFile) => Promise<void>,
  ): Promise<void> {
    const turns = columns.map(column => listTurn(table, column))
    const content = turns.some(turn => turn) ? turnFields(csv, turns) : csv
    const file = join(await this.lease.staging(), `${files++}.csv`)
    try {
      const meter = new LineMeter(LARGEST_ROW_BYTES)
      const metered = async function* () {
        // DuckDB takes a mark at the beginning of a file for none of its first value, which may begin with one.
        yield MARK
        for await (const part of content) {
          meter.take(Buffer.from(part.buffer, part.byteOffset, part.byteLength))
          yield part
        }
      }
      await pipeline(metered, createWriteStream(file))
      await body({ file, bytes: meter.bytes, longestLine: meter.longest })
    } catch (error) {
      throw error instanceof RecordTooLong ? tooLarge(table, columns, error) : error
    } finally {
      await rm(file, { force: true })
    }
  }
}

function tooLarge(
  table: TargetLane['table'],
  columns: readonly Column[],
  { fields }: RecordTooLong,
): Failure {
  const column = columns[fields.length] ?? columns.at(-1)!
  const told = fields.slice(0, 3).map((value, i) => `${columns[i]!.name} ${value?.slice(0, 60) ?? 'null'}`)
  return new Failure(
    'value',
    `${printName(table)}.${column.name}: a row of more than ${LARGEST_ROW_BYTES / 2 ** 20} MB is more than DuckDB can take in here${told.length > 0 ? `, in the row with ${told.join(', ')}` : ''}.`,
    'Make the value smaller at the source and continue, or leave the table out and start again.',
  )
}

function indexOf(lane: TargetLane, column: string): number {
  return lane.columns.findIndex(({ name }) => name === column)
}
