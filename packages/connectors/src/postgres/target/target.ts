import type { NetEffect, Put } from '@tide/core/apply/net-effect'
import { Failure } from '@tide/core/failure'
import type { LaneColumn, PrepareStep, TargetProfile } from '@tide/core/plan/plan'
import { csvLine } from '@tide/core/records/csv'
import { printName, type DatasetName } from '@tide/core/records/dataset'
import type { Row, Value } from '@tide/core/records/value'
import { postgresColumn } from '@tide/core/shape/postgres'
import { Readable } from 'node:stream'
import { pipeline } from 'node:stream/promises'
import type { Pool, PoolClient } from 'pg'
import { from as copyFrom } from 'pg-copy-streams'
import type {
  ApplyTransaction,
  Checkpoint,
  CommitLoad,
  CopyRange,
  LaneEffect,
  TargetLane,
  TargetSide,
  Unfilled,
} from '../../contract.ts'
import { checkpointOf, overtaken, rowOf } from '../../checkpoint.ts'
import { tableName } from '../catalogue.ts'
import { postgresFailure } from '../errors.ts'
import { STATE_SCHEMA } from '../state.ts'
import { ident } from '../text.ts'
import { endOthers, markOurs } from './ownership.ts'
import { columnList, ddl, fromText, LIST_FUNCTION, listLiteral, STATE_DDL, upsert } from './sql.ts'

/** Staged beside a row: which of its columns were not sent, and which row of the batch it is. */
const UNSENT = ident('tide: unsent')
const PLACE = ident('tide: place')
const keyColumn = (i: number) => ident(`tide: key ${i}`)

/** What PostgreSQL says of a value that it will not take: classes 22 and 23. */
const MISFIT = /^(22|23)/

/** Every call takes a client of the pool, so that ranges load side by side. */
export class PostgresTarget implements TargetSide {
  readonly profile: TargetProfile = {
    naming: { fold: 'none', allowed: 'any', maxLength: 63, maxBytes: 63 },
    typeOf: postgresColumn,
    sameName: (a, b) => a === b,
  }
  private readonly pool: Pool
  private readonly where: string
  private stages = 0
  private pipeline: string | undefined
  private readonly analyzed = new Set<string>()

  constructor(pool: Pool, where: string) {
    this.pool = pool
    this.where = where
  }

  ddl(steps: readonly PrepareStep[]): string[] {
    return steps.flatMap(ddl)
  }

  prepare(steps: readonly PrepareStep[], checkpoint: Checkpoint): Promise<void> {
    return this.transaction(async client => {
      for (const statement of STATE_DDL) await client.query(statement)
      const values = checkpointValues(checkpoint)
      await client.query(
        `DELETE FROM ${STATE_SCHEMA}.checkpoint WHERE pipeline = $1 AND epoch <= $2::bigint`,
        values.slice(0, 2),
      )
      const begun = await client.query(
        `INSERT INTO ${STATE_SCHEMA}.checkpoint VALUES ($1, $2, $3, $4, $5, $6, now()) ON CONFLICT DO NOTHING`,
        values,
      )
      if (begun.rowCount === 0) throw overtaken()
      for (const statement of this.ddl(steps)) await client.query(statement)
    })
  }

  async load(lane: TargetLane, { csv }: CopyRange, again: boolean, commit: CommitLoad): Promise<void> {
    const client = await this.connect()
    let broken = true
    try {
      await this.beginOn(client)
      const lists = lane.columns.some(({ type }) => type.kind === 'list')
      const loaded =
        lists || again ? await this.loadStaged(client, lane, csv) : await this.loadStraight(client, lane, csv)
      await commit(loaded, async checkpoint => {
        await writeCheckpoint(client, checkpoint)
        await client.query('COMMIT')
      })
      broken = false
    } catch (error) {
      throw this.failure(error, lane)
    } finally {
      // What was cut off in the middle is not used again; its transaction ends with it.
      client.release(broken)
    }
  }

  async begin(): Promise<ApplyTransaction> {
    const client = await this.connect()
    let ended = false
    const end = (broken: boolean) => {
      if (!ended) client.release(broken)
      ended = true
    }
    try {
      await this.beginOn(client)
    } catch (error) {
      end(true)
      throw postgresFailure(error, this.where)
    }
    return {
      apply: async effects => {
        const unfilled: Unfilled[] = []
        for (const { lane, effect } of effects) {
          for (const put of await this.applyLane(client, { lane, effect })) unfilled.push({ lane, put })
        }
        return unfilled
      },
      commit: async checkpoint => {
        try {
          await writeCheckpoint(client, checkpoint)
          await client.query('COMMIT')
          end(false)
        } catch (error) {
          throw postgresFailure(error, this.where)
        }
      },
      rollback: async () => end(true),
    }
  }

  async readCheckpoint(pipeline: string): Promise<Checkpoint | undefined> {
    return this.guarded(async () => {
      const there = await this.pool.query(
        `SELECT to_regclass('${STATE_SCHEMA}.checkpoint') IS NOT NULL AS there`,
      )
      if (there.rows[0].there !== 't') return undefined
      const found = await this.pool.query(
        `SELECT epoch::text, position, to_char(complete_up_to AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"') AS at, lanes, consistent
           FROM ${STATE_SCHEMA}.checkpoint WHERE pipeline = $1`,
        [pipeline],
      )
      const row = found.rows[0]
      if (!row) return undefined
      const { epoch, position, at, lanes } = row
      return checkpointOf(pipeline, {
        epoch,
        position,
        completeUpTo: at,
        lanes,
        consistent: row.consistent === 't',
      })
    })
  }

  async takeCheckpoint(pipeline: string, epoch: number, freshFrom: number): Promise<Checkpoint | undefined> {
    this.pipeline = pipeline
    await this.guarded(() => endOthers(this.pool, pipeline))
    const found = await this.readCheckpoint(pipeline)
    if (!found || found.epoch < freshFrom) return undefined
    await this.guarded(() =>
      this.pool.query(
        `UPDATE ${STATE_SCHEMA}.checkpoint SET epoch = $2::bigint WHERE pipeline = $1 AND epoch <= $2::bigint`,
        [pipeline, String(epoch)],
      ),
    )
    return this.readCheckpoint(pipeline)
  }

  empty(lanes: readonly TargetLane[], checkpoint: Checkpoint): Promise<void> {
    return this.transaction(async client => {
      for (const lane of lanes) await client.query(`TRUNCATE ${tableName(lane.table)}`)
      await writeCheckpoint(client, checkpoint)
    })
  }

  async forget(pipeline: string): Promise<void> {
    if (!(await this.readCheckpoint(pipeline))) return
    await this.guarded(() =>
      this.pool.query(`DELETE FROM ${STATE_SCHEMA}.checkpoint WHERE pipeline = $1`, [pipeline]),
    )
  }

  async count(table: DatasetName): Promise<number> {
    const counted = await this.guarded(() => this.pool.query(`SELECT count(*) AS n FROM ${tableName(table)}`))
    return Number(counted.rows[0].n)
  }

  /** Straight into the table, as fast as the server takes it. */
  private async loadStraight(client: PoolClient, lane: TargetLane, csv: CopyRange['csv']) {
    return copyInto(client, `${tableName(lane.table)} (${columnList(lane.columns)})`, csv)
  }

  /** By way of a stage, where lists must be turned or rows may be there already. */
  private async loadStaged(client: PoolClient, lane: TargetLane, csv: CopyRange['csv']) {
    const stage = this.newStage()
    const asText = (column: LaneColumn) => column.type.kind === 'list'
    await client.query(LIST_FUNCTION)
    await client.query(
      `CREATE TEMP TABLE ${stage} (${lane.columns.map(column => `${ident(column.target)} ${asText(column) ? 'text' : column.targetType}`).join(', ')}) ON COMMIT DROP`,
    )
    const loaded = await copyInto(client, stage, csv)
    await client.query(upsert(lane, stage, lane.columns.map(fromText).join(', ')))
    return loaded
  }

  /** Truncate, then rows that go, then rows as they stand in the end. Returns the puts that it could not fill. */
  private async applyLane(client: PoolClient, { lane, effect }: LaneEffect): Promise<Put[]> {
    const keyColumns = lane.key.map(name => lane.columns.find(({ target }) => target === name)!)
    const matches = (stage: string) =>
      lane.key.map((name, i) => `t.${ident(name)} = ${stage}.${keyColumn(i)}`).join(' AND ')
    try {
      const table = tableName(lane.table)
      if (effect.truncate) await client.query(`TRUNCATE ${table}`)
      let unfilled: Put[] = []
      const puts = this.newStage()
      if (effect.puts.length > 0) {
        await this.stagePuts(client, puts, lane, keyColumns, effect)
        unfilled = await this.fillUnsent(client, puts, lane, effect, matches(puts))
      }
      if (effect.removed.length > 0 && !effect.truncate) {
        const removed = this.newStage()
        const columns = keyColumns.map(({ targetType }, i) => `${keyColumn(i)} ${targetType}`)
        await client.query(`CREATE TEMP TABLE ${removed} (${columns.join(', ')}) ON COMMIT DROP`)
        await copyInto(client, removed, lines(effect.removed))
        await client.query(`ANALYZE ${removed}`)
        await client.query(`DELETE FROM ${table} t USING ${removed} WHERE ${matches(removed)}`)
        await client.query(`DROP TABLE ${removed}`)
      }
      if (effect.puts.length === 0) return []
      await client.query(upsert(lane, puts))
      await client.query(`DROP TABLE ${puts}`) // a transaction in many parts must not pile them up
      return unfilled
    } catch (error) {
      throw this.failure(error, lane)
    }
  }

  private async stagePuts(
    client: PoolClient,
    stage: string,
    lane: TargetLane,
    keyColumns: readonly LaneColumn[],
    { puts }: NetEffect,
  ): Promise<void> {
    const columns = [
      ...lane.columns.map(({ target, targetType }) => `${ident(target)} ${targetType}`),
      `${UNSENT} text`,
      ...keyColumns.map(({ targetType }, i) => `${keyColumn(i)} ${targetType}`),
      `${PLACE} int`,
    ]
    await client.query(`CREATE TEMP TABLE ${stage} (${columns.join(', ')}) ON COMMIT DROP`)
    const lists = lane.columns.flatMap(({ type, targetType }, i) =>
      type.kind === 'list' && targetType !== 'text' ? [i] : [],
    )
    const rows = puts.map(({ row, key, from }, place): Value[] => {
      const unsent = row.flatMap((value, i) => (value === undefined ? [i] : []))
      return [
        ...withLists(row, lists),
        unsent.length > 0 ? `,${unsent.join(',')},` : null,
        ...(from ?? key),
        String(place),
      ]
    })
    await copyInto(client, stage, lines(rows))
    // Nobody else does it for temporary tables, and without it joins with them are planned as if they held next to nothing.
    await client.query(`ANALYZE ${stage}`)
  }

  private async fillUnsent(
    client: PoolClient,
    stage: string,
    lane: TargetLane,
    { puts }: NetEffect,
    match: string,
  ): Promise<Put[]> {
    const columns = new Set(
      puts.flatMap(({ row }) => row.flatMap((value, i) => (value === undefined ? [i] : []))),
    )
    if (columns.size === 0) return []
    const table = tableName(lane.table)
    await this.analyzeOnce(client, table)
    for (const i of columns) {
      const column = ident(lane.columns[i]!.target)
      await client.query(
        `UPDATE ${stage} SET ${column} = t.${column} FROM ${table} t WHERE ${match} AND ${stage}.${UNSENT} LIKE '%,${i},%'`,
      )
    }
    const missing = await client.query(
      `DELETE FROM ${stage} WHERE ${UNSENT} IS NOT NULL AND NOT EXISTS (SELECT FROM ${table} t WHERE ${match}) RETURNING ${PLACE} AS place`,
    )
    return missing.rows.map(({ place }) => puts[Number(place)]!)
  }

  /** A table that has just been copied is not known to the planner yet. */
  private async analyzeOnce(client: PoolClient, table: string): Promise<void> {
    if (this.analyzed.has(table)) return
    await client.query(`ANALYZE ${table}`)
    this.analyzed.add(table)
  }

  private newStage(): string {
    return `pg_temp.tide_stage_${this.stages++}`
  }

  private async connect(): Promise<PoolClient> {
    return this.guarded(() => this.pool.connect())
  }

  private async beginOn(client: PoolClient): Promise<void> {
    await client.query(this.pipeline ? `BEGIN; ${markOurs(this.pipeline)}` : 'BEGIN')
  }

  private async transaction(body: (client: PoolClient) => Promise<void>): Promise<void> {
    const client = await this.connect()
    let broken = true
    try {
      await this.beginOn(client)
      await body(client)
      await client.query('COMMIT')
      broken = false
    } catch (error) {
      throw postgresFailure(error, this.where)
    } finally {
      client.release(broken)
    }
  }

  private async guarded<T>(work: () => Promise<T>): Promise<T> {
    try {
      return await work()
    } catch (error) {
      throw postgresFailure(error, this.where)
    }
  }

  private failure(thrown: unknown, lane: TargetLane): Failure {
    const { code = '', message, where, column, detail } = thrown as Record<string, string | undefined>
    if (thrown instanceof Failure || !MISFIT.test(code)) return postgresFailure(thrown, this.where)
    // PostgreSQL names line, column and value of what was copied in: `COPY t, line 3, column price: "NaN"`.
    const place = /line \d+(?:, column ([^:]+): "([\s\S]*)")?/.exec(where ?? '')
    const name = place?.[1] ?? column
    const value = place?.[2] === undefined ? '' : `the value ${place[2].slice(0, 60)} does not fit: `
    return new Failure(
      'value',
      `${printName(lane.table)}${name ? `.${name}` : ''}: ${value}${message}${detail ? ` (${detail})` : ''}.`,
      'Correct the value at the source and continue, or leave the table out and start again.',
      thrown,
    )
  }
}

async function copyInto(
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

/** Some hundred rows at a time, so that the text of a large batch is never there twice. */
function* lines(rows: readonly (readonly Value[])[]): Generator<Uint8Array> {
  const atOnce = 500
  for (let from = 0; from < rows.length; from += atOnce)
    yield Buffer.from(
      rows
        .slice(from, from + atOnce)
        .map(csvLine)
        .join(''),
    )
}

function withLists(row: Row, lists: readonly number[]): Row {
  if (lists.length === 0) return row
  const turned = [...row]
  for (const i of lists) {
    const value = row[i]
    if (typeof value === 'string') turned[i] = listLiteral(JSON.parse(value))
  }
  return turned
}

async function writeCheckpoint(client: PoolClient, checkpoint: Checkpoint): Promise<void> {
  const written = await client.query(
    `UPDATE ${STATE_SCHEMA}.checkpoint
        SET epoch = $2::bigint, position = $3, complete_up_to = $4::timestamptz, lanes = $5, consistent = $6::boolean, written_at = now()
      WHERE pipeline = $1 AND epoch <= $2::bigint`,
    checkpointValues(checkpoint),
  )
  if (written.rowCount === 0) throw overtaken()
}

function checkpointValues(checkpoint: Checkpoint): string[] {
  const { epoch, position, completeUpTo, lanes, consistent } = rowOf(checkpoint)
  return [checkpoint.pipeline, epoch, position, completeUpTo, lanes, String(consistent)]
}
