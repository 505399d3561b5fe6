import type { NetEffect, Put } from '@tide/core/apply/net-effect'
import { Turns } from '@tide/core/pace/turns'
import { Failure } from '@tide/core/failure'
import type { LaneColumn, PrepareStep, TargetProfile } from '@tide/core/plan/plan'
import { printName } from '@tide/core/records/dataset'
import type { Value } from '@tide/core/records/value'
import { createWriteStream } from 'node:fs'
import { rm } from 'node:fs/promises'
import { join } from 'node:path'
import { pipeline } from 'node:stream/promises'
import type {
  ApplyTransaction,
  Checkpoint,
  CommitLoad,
  CopyRange,
  TargetLane,
  TargetSide,
  Unfilled,
} from '../contract.ts'
import { checkpointOf, overtaken, rowOf } from '../checkpoint.ts'
import { besideRow, csvParts, unsentColumns } from '../staging.ts'
import { duckdbFailure } from './errors.ts'
import { turnFields } from '../csv-fields.ts'
import type { DuckdbConnection, HostValue } from './host.ts'
import type { Lease } from './instance.ts'
import { LineMeter, RecordTooLong } from './line-meter.ts'
import { listTurn } from './lists.ts'
import { ddl, ident, readCsv, type CsvFile, STATE_DDL, STATE_SCHEMA, tableName } from './sql.ts'

let files = 0

/** DuckDB reads a row whole, and keeps a value in the next power of two, in the memory it has (see `instance.ts`). */
const LARGEST_ROW_BYTES = 120 * 2 ** 20

const MARK = Buffer.from('\ufeff')

/** Temporary tables of a batch; kept no longer than it, since their rows stay in memory. */
const STAGES = ['puts', 'removed', 'kept']

/** Writes through one connection of its own: transactions take turns, for two would both write the checkpoint and fail. */
export class DuckdbTarget implements TargetSide {
  readonly profile: TargetProfile
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
    return steps.map(ddl)
  }

  async prepare(steps: readonly PrepareStep[], checkpoint: Checkpoint): Promise<void> {
    await this.transaction(async () => {
      for (const statement of STATE_DDL) await this.run(statement)
      const { pipeline, epoch } = checkpoint
      await this.run(`DELETE FROM ${STATE_SCHEMA}.checkpoint WHERE pipeline = $1 AND epoch <= $2::BIGINT`, [
        pipeline,
        String(epoch),
      ])
      if (await this.readCheckpoint(pipeline)) throw overtaken()
      for (const statement of this.ddl(steps)) await this.run(statement)
      await this.run(
        `INSERT INTO ${STATE_SCHEMA}.checkpoint VALUES ($1, $2::BIGINT, $3, $4::TIMESTAMPTZ, $5, $6::BOOLEAN, now())`,
        checkpointValues(checkpoint),
      )
    })
  }

  extend(steps: readonly PrepareStep[], checkpoint: Checkpoint): Promise<void> {
    return this.transaction(async () => {
      for (const statement of this.ddl(steps)) await this.run(statement)
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
    if (!again) return this.insertCsv(`INSERT INTO ${table}`, lane, lane.columns, file)
    // Read twice, so that a large range need not be kept in memory.
    const { read, select } = readCsv(file, lane.columns)
    const key = lane.key.map((name, i) => `${select[indexOf(lane, name)]} AS k${i}`).join(', ')
    const own = lane.key.map((name, i) => `t.${ident(name)} = again.k${i}`).join(' AND ')
    await this.run(`DELETE FROM ${table} t USING (SELECT ${key} FROM ${read}) again WHERE ${own}`)
    return this.insertCsv(`INSERT INTO ${table}`, lane, lane.columns, file)
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
            for (const put of await this.applyLane(lane, effect)) unfilled.push({ lane, put })
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
    const found = await this.ask(
      `SELECT epoch::VARCHAR, position, strftime(complete_up_to AT TIME ZONE 'UTC', '%Y-%m-%dT%H:%M:%S.%fZ'), lanes, consistent::VARCHAR
         FROM ${STATE_SCHEMA}.checkpoint WHERE pipeline = $1`,
      [pipeline],
    )
    const row = found[0] as [string, string, string, string, string] | undefined
    if (!row) return undefined
    const [epoch, position, completeUpTo, lanes, consistent] = row
    return checkpointOf(pipeline, { epoch, position, completeUpTo, lanes, consistent: consistent === 'true' })
  }

  async takeCheckpoint(pipeline: string, epoch: number, freshFrom: number): Promise<Checkpoint | undefined> {
    const found = await this.readCheckpoint(pipeline)
    if (!found || found.epoch < freshFrom) return undefined
    await this.run(
      `UPDATE ${STATE_SCHEMA}.checkpoint SET epoch = $2::BIGINT WHERE pipeline = $1 AND epoch <= $2::BIGINT`,
      [pipeline, String(epoch)],
    )
    return this.readCheckpoint(pipeline)
  }

  async empty(lanes: readonly TargetLane[], checkpoint: Checkpoint): Promise<void> {
    await this.transaction(async () => {
      for (const lane of lanes) await this.run(`DELETE FROM ${tableName(lane.table)}`)
      await this.writeCheckpoint(checkpoint)
    })
  }

  async forget(pipeline: string): Promise<void> {
    if (!(await this.readCheckpoint(pipeline))) return
    await this.run(`DELETE FROM ${STATE_SCHEMA}.checkpoint WHERE pipeline = $1`, [pipeline])
  }

  async count(table: TargetLane['table']): Promise<number> {
    // Beside the writer, who would have to wait.
    const connection = await this.lease.connect()
    try {
      const [counted] = await connection.ask(`SELECT count(*)::VARCHAR FROM ${tableName(table)}`)
      return Number(counted![0])
    } catch (error) {
      throw duckdbFailure(error, this.where)
    } finally {
      await this.lease.disconnect(connection)
    }
  }

  /** Truncate, then rows that go, then rows as they stand in the end. Returns the puts that it could not fill. */
  private async applyLane(lane: TargetLane, { truncate, removed, puts }: NetEffect): Promise<Put[]> {
    const table = tableName(lane.table)
    if (truncate) await this.run(`DELETE FROM ${table}`)
    const keyColumns = lane.key.map(name => lane.columns[indexOf(lane, name)]!)
    const keys = keyColumns.map((_, i) => `k${i}`)
    const match = (stage: string) =>
      lane.key.map((name, i) => `t.${ident(name)} = ${stage}.k${i}`).join(' AND ')
    const unsent = unsentColumns(puts)
    let unfilled: Put[] = []
    const names = lane.columns.map((_, i) => `c${i}`)
    if (unsent.length > 0) {
      const text: LaneColumn = { ...keyColumns[0]!, type: { kind: 'utf8' }, targetType: 'VARCHAR' }
      const rows = puts.map((put, n) => [...put.row, ...besideRow(put, n)])
      await this.stage(
        'puts',
        lane,
        [...lane.columns, text, ...keyColumns, text],
        [...names, 'unsent', ...keys, 'n'],
        rows,
      )
      unfilled = await this.keepUnsent(lane, puts, unsent, match('puts'))
    } else if (puts.length > 0) {
      await this.stage(
        'puts',
        lane,
        lane.columns,
        names,
        puts.map(({ row }) => row),
      )
    }
    if (removed.length > 0 && !truncate) {
      await this.stage('removed', lane, keyColumns, keys, removed)
      await this.run(`DELETE FROM ${table} t USING removed WHERE ${match('removed')}`)
    }
    if (puts.length === 0) return []
    if (!truncate) {
      const own = lane.key.map(name => `t.${ident(name)} = puts.c${indexOf(lane, name)}`).join(' AND ')
      await this.run(`DELETE FROM ${table} t USING puts WHERE ${own}`)
    }
    const values = names.map((name, i) =>
      unsent.includes(i)
        ? `CASE WHEN contains(puts.unsent, ',${i},') THEN kept.u${i} ELSE puts.${name} END`
        : `puts.${name}`,
    )
    const kept = unsent.length > 0 ? 'LEFT JOIN kept ON kept.n = puts.n' : ''
    await this.run(`INSERT INTO ${table} SELECT ${values.join(', ')} FROM puts ${kept}`)
    return unfilled
  }

  /**
   * Takes what was not sent from the rows as they are there, before any of them goes (`kept.u…` for put `n`). The
   * staged rows are on the right of the join, where DuckDB keeps them in memory; the table streams past.
   */
  private async keepUnsent(
    lane: TargetLane,
    puts: readonly Put[],
    unsent: readonly number[],
    match: string,
  ): Promise<Put[]> {
    const columns = unsent.map(i => `t.${ident(lane.columns[i]!.target)} AS u${i}`)
    await this.run(
      `CREATE OR REPLACE TEMP TABLE kept AS SELECT puts.n, ${columns.join(', ')} FROM ${tableName(lane.table)} t
         JOIN (SELECT * FROM puts WHERE unsent IS NOT NULL) puts ON ${match}`,
    )
    const missing = `unsent IS NOT NULL AND n NOT IN (SELECT n FROM kept)`
    const found = await this.ask(`SELECT n FROM puts WHERE ${missing}`)
    if (found.length > 0) await this.run(`DELETE FROM puts WHERE ${missing}`)
    return found.map(([n]) => puts[Number(n)]!)
  }

  private async stage(
    name: string,
    lane: TargetLane,
    columns: readonly LaneColumn[],
    names: readonly string[],
    rows: readonly (readonly Value[])[],
  ): Promise<void> {
    await this.withFile(lane, columns, csvParts(rows), async file => {
      await this.insertCsv(`CREATE OR REPLACE TEMP TABLE ${name} AS`, lane, columns, file, names)
    })
  }

  /** Runs `into` with a SELECT over the file; returns how many rows that were. A value that does not fit is named. */
  private async insertCsv(
    into: string,
    lane: TargetLane,
    columns: readonly LaneColumn[],
    file: CsvFile,
    names?: readonly string[],
  ): Promise<number> {
    const { read, select } = readCsv(file, columns)
    const list = names ? select.map((expression, i) => `${expression} AS ${names[i]}`) : select
    try {
      return await this.run(`${into} SELECT ${list.join(', ')} FROM ${read}`)
    } catch (error) {
      const misfit = /^(Conversion|Invalid Input|Constraint|Out of Range) Error/i.test(
        (error as Error).message,
      )
      throw misfit ? await this.misfit(lane, columns, file, error) : error
    }
  }

  /**
   * Looks for the value that does not fit, on a connection of its own since the transaction has failed. A file that cannot
   * be read at all is not for a second try: that error is thrown.
   */
  private async misfit(
    lane: TargetLane,
    columns: readonly LaneColumn[],
    file: CsvFile,
    cause: unknown,
  ): Promise<Failure> {
    const connection = await this.lease.connect()
    try {
      const { read, select } = readCsv(file, columns, true)
      const key = lane.key.map(name => `c${columns.findIndex(column => column.target === name)}`).join(`, `)
      for (const [i, column] of columns.entries()) {
        const [row] = await connection.ask(
          `SELECT left(c${i}, 60), concat_ws(', ', ${key}) FROM ${read} WHERE c${i} IS NOT NULL AND TRY(${select[i]}) IS NULL LIMIT 1`,
        )
        if (!row) continue
        return new Failure(
          'value',
          `${printName(lane.table)}.${column.target}: the value ${row[0]} does not fit ${column.targetType}, in the row with ${lane.key.join(', ')} ${row[1]}.`,
          'Correct the value at the source and continue, or leave the table out and start again.',
          cause,
        )
      }
    } finally {
      await this.lease.disconnect(connection)
    }
    const failure = duckdbFailure(cause, this.where)
    if (!/^Invalid Input Error: CSV Error/.test((cause as Error).message)) return failure
    // By one thread it has just been read from end to end, several times. The batch is made again.
    return new Failure(
      'transient',
      failure.message,
      'It could be read now; it is tried again by itself.',
      cause,
    )
  }

  private async writeCheckpoint(checkpoint: Checkpoint): Promise<void> {
    const written = await this.run(
      `UPDATE ${STATE_SCHEMA}.checkpoint
          SET epoch = $2::BIGINT, position = $3, complete_up_to = $4::TIMESTAMPTZ, lanes = $5, consistent = $6::BOOLEAN, written_at = now()
        WHERE pipeline = $1 AND epoch <= $2::BIGINT`,
      checkpointValues(checkpoint),
    )
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
    columns: readonly LaneColumn[],
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
  columns: readonly LaneColumn[],
  { fields }: RecordTooLong,
): Failure {
  const column = columns[fields.length] ?? columns.at(-1)!
  const told = fields.slice(0, 3).map((value, i) => `${columns[i]!.target} ${value?.slice(0, 60) ?? 'null'}`)
  return new Failure(
    'value',
    `${printName(table)}.${column.target}: a row of more than ${LARGEST_ROW_BYTES / 2 ** 20} MB is more than DuckDB can take in here${told.length > 0 ? `, in the row with ${told.join(', ')}` : ''}.`,
    'Make the value smaller at the source and continue, or leave the table out and start again.',
  )
}

function checkpointValues(checkpoint: Checkpoint): string[] {
  const { epoch, position, completeUpTo, lanes, consistent } = rowOf(checkpoint)
  return [checkpoint.pipeline, epoch, position, completeUpTo, lanes, String(consistent)]
}

function indexOf(lane: TargetLane, column: string): number {
  return lane.columns.findIndex(({ target }) => target === column)
}
