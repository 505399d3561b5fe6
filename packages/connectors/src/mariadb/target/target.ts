import { Failure } from '@tide/core/failure'
import { mariadbHolds } from '@tide/core/shape/mariadb-holds'
import type { PrepareStep } from '@tide/core/plan/steps'
import type { TargetProfile } from '@tide/core/plan/input'
import { printName } from '@tide/core/records/dataset'
import { mariadbColumn } from '@tide/core/shape/mariadb'
import type { ApplyTransaction, CommitLoad, TargetLane, TargetSide, Unfilled } from '../../contract/target.ts'
import { checkpointOf, type Checkpoint, type CheckpointRow } from '@tide/core/checkpoint/checkpoint'
import type { CopyRange } from '../../contract/source.ts'
import { STATE_DATABASE } from '../catalogue.ts'
import { Session, withSession } from '../client.ts'
import type { MariadbConfig } from '../config.ts'
import { overtaken, rowRead } from '../../checkpoint.ts'
import { AS_THEY_COME } from '../../gathering.ts'
import { merge } from '../../merge.ts'
import { mariadbFailure } from '../errors.ts'
import { tableName } from '../sql.ts'
import { loadData } from './load-data.ts'
import { MariadbMerge } from './merge.ts'
import { endOthers, markOurs } from './ownership.ts'
import { CHECKPOINTS, columnNames, ddl, emptied, ofPart, STATE_DDL } from './sql.ts'
import { Stages } from './stages.ts'

/** A count that takes longer is given up. */
const COUNT_S = 5

/** Of a row in the table of checkpoints that says something else. */
const NO_PLACE: Omit<CheckpointRow, 'lanes'> = {
  epoch: '0',
  position: '',
  completeUpTo: '2000-01-01T00:00:00.000000Z',
  consistent: false,
}

/** What MariaDB says of values that it will not take, beside the SQLSTATE classes 22 and 23. */
const MISFIT = /^(ER_TRUNCATED_WRONG_VALUE|ER_BAD_NULL_ERROR|ER_NO_DEFAULT_FOR_FIELD|WARN_DATA_TRUNCATED)/

/** Writes through sessions of its own, one for each transaction under way. */
export class MariadbTarget implements TargetSide {
  readonly profile: TargetProfile = {
    naming: { fold: 'none', allowed: 'bmp', maxLength: 64 },
    typeOf: mariadbColumn,
    nameKey: name => name.toLowerCase(),
    holdsOf: mariadbHolds,
    needsKey: 'primary alone',
    keepsOthers: false,
  }
  readonly gathering = AS_THEY_COME
  private readonly config: MariadbConfig
  private readonly where: string
  private readonly idle: Session[] = []
  private closed = false
  private pipeline: string | undefined

  constructor(config: MariadbConfig, where: string) {
    this.config = config
    this.where = where
  }

  ddl(steps: readonly PrepareStep[]): string[] {
    return steps.flatMap(ddl)
  }

  prepare(steps: readonly PrepareStep[], checkpoint: Checkpoint): Promise<void> {
    return this.makeTables(
      checkpoint.pipeline,
      steps,
      async session => {
        await session.run(CHECKPOINTS.clear(checkpoint))
        if (await this.readCheckpoint(checkpoint.pipeline)) throw overtaken()
      },
      session => session.run(CHECKPOINTS.insert(checkpoint)),
    )
  }

  make(pipeline: string, steps: readonly PrepareStep[]): Promise<void> {
    return this.makeTables(
      pipeline,
      steps,
      async () => {},
      async () => {},
    )
  }

  change(steps: readonly PrepareStep[], again: readonly TargetLane[], checkpoint: Checkpoint): Promise<void> {
    return this.makeTables(
      checkpoint.pipeline,
      steps,
      async () => {},
      async session => {
        for (const lane of again) await session.run(emptied(lane))
        await writeCheckpoint(session, checkpoint)
      },
    )
  }

  /**
   * MariaDB commits with each statement that makes a table. So what is about to be made is written down first, and when
   * that was cut off, those tables are ours to make again.
   */
  private makeTables(
    pipeline: string,
    steps: readonly PrepareStep[],
    first: (session: Session) => Promise<void>,
    last: (session: Session) => Promise<unknown>,
  ): Promise<void> {
    return this.using(async session => {
      for (const statement of STATE_DDL) await session.run(statement)
      const begun = `making ${pipeline}`
      const [unfinished] = await session.arrays(CHECKPOINTS.read(begun))
      const made = new Set<string>(unfinished ? JSON.parse(rowRead(unfinished).lanes) : [])
      const tables = steps.flatMap(step => (step.step === 'create table' ? [tableName(step.table)] : []))
      await session.run(CHECKPOINTS.forget(begun))
      await session.run(CHECKPOINTS.insertRow(begun, { ...NO_PLACE, lanes: JSON.stringify(tables) }))
      await first(session)
      for (const table of tables) if (made.has(table)) await session.run(`DROP TABLE IF EXISTS ${table}`)
      for (const statement of this.ddl(steps)) await session.run(statement)
      await session.run('START TRANSACTION')
      await last(session)
      await session.run(CHECKPOINTS.forget(begun))
      await session.run('COMMIT')
    })
  }

  async load(lane: TargetLane, { csv }: CopyRange, again: boolean, commit: CommitLoad): Promise<void> {
    const session = await this.take()
    try {
      await session.run('START TRANSACTION')
      const how = again ? 'REPLACE ' : ''
      const loaded = await loadData(
        session,
        `${how}INTO TABLE ${tableName(lane.table)}`,
        lane.columns,
        columnNames(lane),
        csv,
      )
      await commit(loaded, async checkpoint => {
        await writeCheckpoint(session, checkpoint)
        await session.run('COMMIT')
      })
      this.give(session)
    } catch (error) {
      await session.abandon()
      throw this.failure(error, lane)
    }
  }

  async begin(): Promise<ApplyTransaction> {
    const session = await this.take()
    await session.run('START TRANSACTION').catch(error => {
      session.destroy()
      throw mariadbFailure(error, this.where)
    })
    const stages = new Stages(session)
    return {
      apply: async effects => {
        const unfilled: Unfilled[] = []
        for (const { lane, effect } of effects) {
          const steps = new MariadbMerge(session, stages, lane)
          const puts = await merge(effect, steps).catch(error => {
            throw this.failure(error, lane)
          })
          for (const put of puts) unfilled.push({ lane, put })
        }
        return unfilled
      },
      commit: async checkpoint => {
        try {
          await writeCheckpoint(session, checkpoint)
          await session.run('COMMIT')
        } catch (error) {
          await session.abandon()
          throw mariadbFailure(error, this.where)
        }
        await stages.drop()
        this.give(session)
      },
      rollback: () => session.abandon(),
    }
  }

  async readCheckpoint(pipeline: string): Promise<Checkpoint | undefined> {
    return this.using(async session => {
      const there = await session.arrays(
        `SELECT 1 FROM information_schema.tables WHERE table_schema = '${STATE_DATABASE}' AND table_name = 'checkpoint'`,
      )
      if (there.length === 0) return undefined
      const [row] = await session.arrays(CHECKPOINTS.read(pipeline))
      return row && checkpointOf(pipeline, rowRead(row))
    })
  }

  async takeCheckpoint(pipeline: string, epoch: number, freshFrom: number): Promise<Checkpoint | undefined> {
    this.pipeline = pipeline
    await this.using(session => endOthers(session, pipeline))
    const found = await this.readCheckpoint(pipeline)
    if (!found || found.epoch < freshFrom) return undefined
    await this.using(session => session.run(CHECKPOINTS.raise(pipeline, epoch)))
    return this.readCheckpoint(pipeline)
  }

  async empty(lanes: readonly TargetLane[], checkpoint: Checkpoint): Promise<void> {
    await this.using(async session => {
      await session.run('START TRANSACTION')
      for (const lane of lanes) await session.run(emptied(lane))
      await writeCheckpoint(session, checkpoint)
      await session.run('COMMIT')
    })
  }

  async forget(pipeline: string): Promise<void> {
    if (!(await this.readCheckpoint(pipeline))) return
    await this.using(session => session.run(CHECKPOINTS.forget(pipeline)))
  }

  async count({ table, part }: TargetLane): Promise<number> {
    const [row] = await this.using(session =>
      session.arrays(
        `SET STATEMENT max_statement_time = ${COUNT_S} FOR SELECT count(*) FROM ${tableName(table)}${ofPart(part)}`,
      ),
    )
    return Number(row![0])
  }

  async close(): Promise<void> {
    this.closed = true
    await Promise.all(this.idle.splice(0).map(session => session.close()))
  }

  private async take(): Promise<Session> {
    for (let session = this.idle.pop(); session; session = this.idle.pop()) {
      if (!session.cut) return session
      session.destroy()
    }
    try {
      const session = await Session.open(this.config, { flags: ['+LOCAL_FILES'] } as never)
      await session.run(`USE ${STATE_DATABASE}`) // statements over several tables want one
      await this.mark(session)
      return session
    } catch (error) {
      throw mariadbFailure(error, this.where)
    }
  }

  private async mark(session: Session): Promise<void> {
    if (this.pipeline) await session.arrays(markOurs(this.pipeline))
  }

  private give(session: Session): void {
    if (this.closed || session.cut) session.destroy()
    else this.idle.push(session)
  }

  private async using<T>(body: (session: Session) => Promise<T>): Promise<T> {
    try {
      return await withSession(this.config, async session => {
        await this.mark(session)
        return body(session)
      })
    } catch (error) {
      throw mariadbFailure(error, this.where)
    }
  }

  private failure(thrown: unknown, lane: TargetLane): Failure {
    const {
      code = '',
      sqlState = '',
      message,
    } = thrown as { code?: string; sqlState?: string; message: string }
    const misfit = MISFIT.test(code) || /^2[23]/.test(sqlState)
    if (thrown instanceof Failure || !misfit) return mariadbFailure(thrown, this.where)
    const column = /column [`']?(?:[^`']*`\.`)*([^`']+)[`']/.exec(message)?.[1]
    const staged = /^c(\d+)$/.exec(column ?? '')
    const name = staged ? lane.columns[Number(staged[1])]?.name : column
    return new Failure(
      'value',
      `${printName(lane.table)}${name ? `.${name}` : ''}: ${message}.`,
      'Correct the value at the source and continue, or leave the table out and start again.',
      thrown,
    )
  }
}

async function writeCheckpoint(session: Session, checkpoint: Checkpoint): Promise<void> {
  if ((await session.run(CHECKPOINTS.write(checkpoint))) === 0) throw overtaken()
}
