import { Failure } from '@tide/core/failure'
import type { PrepareStep } from '@tide/core/plan/steps'
import type { TargetProfile } from '@tide/core/plan/input'
import { printName } from '@tide/core/records/dataset'
import { postgresColumn } from '@tide/core/shape/postgres'
import type { Pool, PoolClient } from 'pg'
import type { ApplyTransaction, CommitLoad, TargetLane, TargetSide, Unfilled } from '../../contract/target.ts'
import { checkpointOf, type Checkpoint } from '@tide/core/checkpoint/checkpoint'
import type { CopyRange } from '../../contract/source.ts'
import { overtaken, rowRead } from '../../checkpoint.ts'
import { AS_THEY_COME } from '../../gathering.ts'
import { merge } from '../../merge.ts'
import { inTransaction } from '../transaction.ts'
import { tableName } from '../catalogue.ts'
import { postgresFailure } from '../errors.ts'
import { STATE_SCHEMA } from '../state.ts'
import { ident } from '../text.ts'
import { copyInto } from './copy-into.ts'
import { PostgresMerge } from './merge.ts'
import { endOthers, MAKE_ALONE, markOurs } from './ownership.ts'
import { CHECKPOINTS, columnList, ddl, emptied, ofPart, STATE_DDL, upsert } from './sql.ts'

/** Where a range waits whose rows may be there already. */
const STAGE = 'pg_temp.tide_range'

/** A count that takes longer is given up. */
const COUNT_MS = 5_000

/** For so long a table that is to be altered is waited for; then it is tried again. */
const ALTER_WAITS_MS = 5_000

/** What PostgreSQL says of a value that it will not take: classes 22 and 23. */
const MISFIT = /^(22|23)/

/** Every call takes a client of the pool, so that ranges load side by side. */
export class PostgresTarget implements TargetSide {
  readonly profile: TargetProfile = {
    naming: { fold: 'none', allowed: 'any', maxLength: 63, maxBytes: 63 },
    typeOf: ({ type, nativeType, sameKind }) => postgresColumn(type, sameKind ? nativeType : undefined),
    nameKey: name => name,
    needsKey: 'unique',
    keepsOthers: true,
  }
  readonly gathering = AS_THEY_COME
  private readonly pool: Pool
  private readonly where: string
  private readonly analyzed = new Set<string>()
  private pipeline: string | undefined

  constructor(pool: Pool, where: string) {
    this.pool = pool
    this.where = where
  }

  ddl(steps: readonly PrepareStep[]): string[] {
    return steps.flatMap(ddl)
  }

  prepare(steps: readonly PrepareStep[], checkpoint: Checkpoint): Promise<void> {
    return this.transaction(async client => {
      await client.query(MAKE_ALONE)
      for (const statement of STATE_DDL) await client.query(statement)
      await client.query(CHECKPOINTS.clear(checkpoint))
      const begun = await client.query(`${CHECKPOINTS.insert(checkpoint)} ON CONFLICT DO NOTHING`)
      if (begun.rowCount === 0) throw overtaken()
      for (const statement of this.ddl(steps)) await client.query(statement)
    })
  }

  make(_pipeline: string, steps: readonly PrepareStep[]): Promise<void> {
    return this.transaction(async client => {
      await client.query(MAKE_ALONE)
      for (const statement of this.ddl(steps)) await client.query(statement)
    })
  }

  change(steps: readonly PrepareStep[], again: readonly TargetLane[], checkpoint: Checkpoint): Promise<void> {
    return this.transaction(async client => {
      await client.query(MAKE_ALONE)
      // Who waits for a table lets nobody else read it meanwhile.
      await client.query(`SET LOCAL lock_timeout = ${ALTER_WAITS_MS}`)
      for (const statement of this.ddl(steps)) await client.query(statement)
      for (const lane of again) await client.query(emptied(lane))
      await writeCheckpoint(client, checkpoint)
    })
  }

  async load(lane: TargetLane, { csv }: CopyRange, again: boolean, commit: CommitLoad): Promise<void> {
    const client = await this.connect()
    let broken = true
    try {
      await this.beginOn(client)
      const loaded = again
        ? await this.loadStaged(client, lane, csv)
        : await this.loadStraight(client, lane, csv)
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
          const steps = new PostgresMerge(client, lane, this.analyzed)
          const puts = await merge(effect, steps).catch(error => {
            throw this.failure(error, lane)
          })
          for (const put of puts) unfilled.push({ lane, put })
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
      const found = await this.pool.query({ text: CHECKPOINTS.read(pipeline), rowMode: 'array' })
      return found.rows[0] && checkpointOf(pipeline, rowRead(found.rows[0]))
    })
  }

  async takeCheckpoint(pipeline: string, epoch: number, freshFrom: number): Promise<Checkpoint | undefined> {
    this.pipeline = pipeline
    await this.guarded(() => endOthers(this.pool, pipeline))
    const found = await this.readCheckpoint(pipeline)
    if (!found || found.epoch < freshFrom) return undefined
    await this.guarded(() => this.pool.query(CHECKPOINTS.raise(pipeline, epoch)))
    return this.readCheckpoint(pipeline)
  }

  empty(lanes: readonly TargetLane[], checkpoint: Checkpoint): Promise<void> {
    return this.transaction(async client => {
      for (const lane of lanes) await client.query(emptied(lane))
      await writeCheckpoint(client, checkpoint)
    })
  }

  async forget(pipeline: string): Promise<void> {
    if (!(await this.readCheckpoint(pipeline))) return
    await this.guarded(() => this.pool.query(CHECKPOINTS.forget(pipeline)))
  }

  async count({ table, part }: TargetLane): Promise<number> {
    return this.guarded(() =>
      inTransaction(this.pool, async client => {
        await client.query(`SET LOCAL statement_timeout = ${COUNT_MS}`)
        const counted = await client.query(`SELECT count(*) AS n FROM ${tableName(table)}${ofPart(part)}`)
        return Number(counted.rows[0].n)
      }),
    )
  }

  /** Straight into the table, as fast as the server takes it. */
  private async loadStraight(client: PoolClient, lane: TargetLane, csv: CopyRange['csv']) {
    return copyInto(client, `${tableName(lane.table)} (${columnList(lane.columns)})`, csv)
  }

  /** By way of a stage, since rows may be there already. */
  private async loadStaged(client: PoolClient, lane: TargetLane, csv: CopyRange['csv']) {
    await client.query(
      `CREATE TEMP TABLE ${STAGE} (${lane.columns.map(column => `${ident(column.name)} ${column.nativeType}`).join(', ')}) ON COMMIT DROP`,
    )
    const loaded = await copyInto(client, STAGE, csv)
    await client.query(upsert(lane, STAGE))
    return loaded
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

async function writeCheckpoint(client: PoolClient, checkpoint: Checkpoint): Promise<void> {
  const written = await client.query(CHECKPOINTS.write(checkpoint))
  if (written.rowCount === 0) throw overtaken()
}
