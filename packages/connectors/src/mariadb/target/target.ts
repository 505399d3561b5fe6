import type { NetEffect, Put } from '@tide/core/apply/net-effect'
import { Failure } from '@tide/core/failure'
import type { LaneColumn, PrepareStep, TargetProfile } from '@tide/core/plan/plan'
import { csvLine } from '@tide/core/records/csv'
import { printName, type DatasetName } from '@tide/core/records/dataset'
import type { LogicalType } from '@tide/core/records/types'
import type { Value } from '@tide/core/records/value'
import { mariadbColumn } from '@tide/core/shape/mariadb'
import { Readable } from 'node:stream'
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
import { STATE_DATABASE } from '../catalogue.ts'
import { Session, withSession } from '../client.ts'
import type { MariadbConfig } from '../config.ts'
import { checkpointOf, overtaken, rowOf } from '../../checkpoint.ts'
import { endOthers, markOurs } from './ownership.ts'
import { mariadbFailure } from '../errors.ts'
import { ident, literal, tableName } from '../sql.ts'
import { loadDataLines } from './csv.ts'

const STATE_TABLE = `${STATE_DATABASE}.checkpoint`

const STATE_DDL = [
  `CREATE DATABASE IF NOT EXISTS ${STATE_DATABASE} CHARACTER SET utf8mb4`,
  `CREATE TABLE IF NOT EXISTS ${STATE_TABLE} (
     pipeline varchar(100) PRIMARY KEY, epoch bigint NOT NULL, position text NOT NULL, complete_up_to datetime(6) NOT NULL,
     lanes longtext NOT NULL, consistent boolean NOT NULL, written_at datetime(6) NOT NULL) ENGINE = InnoDB`,
]

/** What MariaDB says of values that it will not take. */
const MISFIT =
  /^(ER_TRUNCATED_WRONG_VALUE|ER_TRUNCATED_WRONG_VALUE_FOR_FIELD|ER_DATA_TOO_LONG|ER_WARN_DATA_OUT_OF_RANGE|ER_BAD_NULL_ERROR|ER_DUP_ENTRY|WARN_DATA_TRUNCATED|ER_DATA_OUT_OF_RANGE|ER_NO_DEFAULT_FOR_FIELD|ER_CONSTRAINT_FAILED)/

/** Statistics lag behind what was just copied, and a planner that takes the table for empty would read it whole for each row. */
const JOIN_BY_KEY = (table: string) => `STRAIGHT_JOIN ${table} t FORCE INDEX (PRIMARY)`

/** Writes through sessions of its own, one for each transaction under way. */
export class MariadbTarget implements TargetSide {
  readonly profile: TargetProfile = {
    naming: { fold: 'none', allowed: 'any', maxLength: 64 },
    typeOf: (type, native, inKey) => mariadbColumn(type, native, inKey),
    sameName: (a, b) => a.toLowerCase() === b.toLowerCase(),
  }
  private readonly config: MariadbConfig
  private readonly where: string
  private readonly idle: Session[] = []
  private closed = false
  private stages = 0
  private pipeline: string | undefined

  constructor(config: MariadbConfig, where: string) {
    this.config = config
    this.where = where
  }

  ddl(steps: readonly PrepareStep[]): string[] {
    return steps.flatMap(ddl)
  }

  /**
   * MariaDB commits with each statement that makes a table. So what is about to be made is written down first, and when
   * that was cut off, those tables are ours to make again.
   */
  async prepare(steps: readonly PrepareStep[], checkpoint: Checkpoint): Promise<void> {
    await this.using(async session => {
      for (const statement of STATE_DDL) await session.run(statement)
      const pipeline = literal(checkpoint.pipeline)
      const begun = literal(`making ${checkpoint.pipeline}`)
      const [unfinished] = await session.arrays(`SELECT lanes FROM ${STATE_TABLE} WHERE pipeline = ${begun}`)
      const made = new Set<string>(unfinished ? JSON.parse(unfinished[0]!) : [])
      const tables = steps.flatMap(step => (step.step === 'create table' ? [tableName(step.table)] : []))
      const insert = (name: string, [position, at, lanes, consistent]: string[]) =>
        session.run(
          `REPLACE INTO ${STATE_TABLE} (pipeline, epoch, position, complete_up_to, lanes, consistent, written_at)
           VALUES (${name}, ${checkpoint.epoch}, ${position}, ${at}, ${lanes}, ${consistent}, now(6))`,
        )
      const [position, at, , consistent] = checkpointValues(checkpoint) as [string, string, string, string]
      await insert(begun, [position, at, literal(JSON.stringify(tables)), consistent])
      await session.run(
        `DELETE FROM ${STATE_TABLE} WHERE pipeline = ${pipeline} AND epoch <= ${checkpoint.epoch}`,
      )
      if (await this.readCheckpoint(checkpoint.pipeline)) throw overtaken()
      for (const table of tables) if (made.has(table)) await session.run(`DROP TABLE IF EXISTS ${table}`)
      for (const statement of this.ddl(steps)) await session.run(statement)
      await session.run('START TRANSACTION')
      await insert(pipeline, checkpointValues(checkpoint))
      await session.run(`DELETE FROM ${STATE_TABLE} WHERE pipeline = ${begun}`)
      await session.run('COMMIT')
    })
  }

  async load(lane: TargetLane, { csv }: CopyRange, again: boolean, commit: CommitLoad): Promise<void> {
    const session = await this.take()
    try {
      await session.run('START TRANSACTION')
      const how = again ? 'REPLACE ' : ''
      const loaded = await this.loadData(
        session,
        `${how}INTO TABLE ${tableName(lane.table)}`,
        lane.columns,
        names(lane),
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
    const stages: string[] = []
    return {
      apply: async effects => {
        const unfilled: Unfilled[] = []
        for (const { lane, effect } of effects) {
          for (const put of await this.applyLane(session, { lane, effect }, stages))
            unfilled.push({ lane, put })
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
        for (const stage of stages)
          await session.run(`DROP TEMPORARY TABLE IF EXISTS ${stage}`).catch(() => {})
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
      const [row] = await session.arrays(
        `SELECT epoch, position, date_format(complete_up_to, '%Y-%m-%dT%H:%i:%s.%fZ'), lanes, consistent
           FROM ${STATE_TABLE} WHERE pipeline = ${literal(pipeline)}`,
      )
      if (!row) return undefined
      const [epoch, position, completeUpTo, lanes, consistent] = row as [
        string,
        string,
        string,
        string,
        string,
      ]
      return checkpointOf(pipeline, { epoch, position, completeUpTo, lanes, consistent: consistent === '1' })
    })
  }

  async takeCheckpoint(pipeline: string, epoch: number, freshFrom: number): Promise<Checkpoint | undefined> {
    this.pipeline = pipeline
    await this.using(session => endOthers(session, pipeline))
    const found = await this.readCheckpoint(pipeline)
    if (!found || found.epoch < freshFrom) return undefined
    await this.using(session =>
      session.run(
        `UPDATE ${STATE_TABLE} SET epoch = ${epoch} WHERE pipeline = ${literal(pipeline)} AND epoch <= ${epoch}`,
      ),
    )
    return this.readCheckpoint(pipeline)
  }

  /** Rows go by DELETE, since TRUNCATE would commit by itself. */
  async empty(lanes: readonly TargetLane[], checkpoint: Checkpoint): Promise<void> {
    await this.using(async session => {
      await session.run('START TRANSACTION')
      for (const lane of lanes) await session.run(`DELETE FROM ${tableName(lane.table)}`)
      await writeCheckpoint(session, checkpoint)
      await session.run('COMMIT')
    })
  }

  async forget(pipeline: string): Promise<void> {
    if (!(await this.readCheckpoint(pipeline))) return
    await this.using(session =>
      session.run(`DELETE FROM ${STATE_TABLE} WHERE pipeline = ${literal(pipeline)}`),
    )
  }

  async count(table: DatasetName): Promise<number> {
    const [row] = await this.using(session => session.arrays(`SELECT count(*) FROM ${tableName(table)}`))
    return Number(row![0])
  }

  async close(): Promise<void> {
    this.closed = true
    await Promise.all(this.idle.splice(0).map(session => session.close()))
  }

  /** Truncate, then rows that go, then rows as they stand in the end. Returns the puts that it could not fill. */
  private async applyLane(session: Session, { lane, effect }: LaneEffect, stages: string[]): Promise<Put[]> {
    const table = tableName(lane.table)
    const keyColumns = lane.key.map(name => lane.columns.find(({ target }) => target === name)!)
    const matches = (stage: string) =>
      lane.key.map((name, i) => `t.${ident(name)} = ${stage}.k${i}`).join(' AND ')
    const stage = async (columns: string[]) => {
      const name = `${STATE_DATABASE}.stage_${process.pid}_${this.stages++}`
      await session.run(
        `CREATE TEMPORARY TABLE ${name} (${columns.join(', ')}) ENGINE = InnoDB DEFAULT CHARACTER SET utf8mb4`,
      )
      stages.push(name)
      return name
    }
    try {
      if (effect.truncate) await session.run(`DELETE FROM ${table}`)
      const unsent = new Set(
        effect.puts.flatMap(({ row }) => row.flatMap((value, i) => (value === undefined ? [i] : []))),
      )
      let unfilled: Put[] = []
      let puts = ''
      if (effect.puts.length > 0) {
        puts = await stage([
          ...lane.columns.map(({ targetType }, i) => `c${i} ${targetType} NULL`),
          'unsent text NULL',
          ...keyColumns.map(({ targetType }, i) => `k${i} ${targetType} NOT NULL`),
          'n int NOT NULL PRIMARY KEY',
        ])
        await this.stagePuts(session, puts, lane, keyColumns, effect)
        if (unsent.size > 0)
          unfilled = await this.fillUnsent(session, puts, lane, effect, unsent, matches('p'))
      }
      if (effect.removed.length > 0 && !effect.truncate) {
        const removed = await stage(keyColumns.map(({ targetType }, i) => `k${i} ${targetType} NOT NULL`))
        const targets = keyColumns.map((_, i) => `k${i}`)
        await this.loadData(session, `INTO TABLE ${removed}`, keyColumns, targets, lines(effect.removed))
        await session.run(`DELETE t FROM ${removed} r ${JOIN_BY_KEY(table)} ON ${matches('r')}`)
      }
      if (effect.puts.length === 0) return []
      const values = lane.columns.map((_, i) => `c${i}`).join(', ')
      const update = lane.columns
        .map(({ target }) => `${ident(target)} = VALUES(${ident(target)})`)
        .join(', ')
      await session.run(
        `INSERT INTO ${table} (${names(lane).join(', ')}) SELECT ${values} FROM ${puts} ON DUPLICATE KEY UPDATE ${update}`,
      )
      return unfilled
    } catch (error) {
      throw this.failure(error, lane)
    }
  }

  private async stagePuts(
    session: Session,
    stage: string,
    lane: TargetLane,
    keyColumns: readonly LaneColumn[],
    { puts }: NetEffect,
  ): Promise<void> {
    const rows = puts.map(({ row, key, from }, n): Value[] => {
      const unsent = row.flatMap((value, i) => (value === undefined ? [i] : []))
      return [...row, unsent.length > 0 ? `,${unsent.join(',')},` : null, ...(from ?? key), String(n)]
    })
    const text = { type: { kind: 'utf8' } as LogicalType, targetType: 'text' }
    const columns = [...lane.columns, text, ...keyColumns, text]
    const targets = [
      ...lane.columns.map((_, i) => `c${i}`),
      'unsent',
      ...keyColumns.map((_, i) => `k${i}`),
      'n',
    ]
    await this.loadData(session, `INTO TABLE ${stage}`, columns, targets, lines(rows))
  }

  private async fillUnsent(
    session: Session,
    stage: string,
    lane: TargetLane,
    { puts }: NetEffect,
    unsent: ReadonlySet<number>,
    match: string,
  ): Promise<Put[]> {
    const table = tableName(lane.table)
    const set = [...unsent].map(
      i => `p.c${i} = IF(p.unsent LIKE '%,${i},%', t.${ident(lane.columns[i]!.target)}, p.c${i})`,
    )
    await session.run(
      `UPDATE ${stage} p ${JOIN_BY_KEY(table)} ON ${match} SET ${set.join(', ')}, p.unsent = 'filled' WHERE p.unsent IS NOT NULL`,
    )
    const missing = await session.arrays(`SELECT n FROM ${stage} WHERE unsent <> 'filled'`)
    if (missing.length > 0) await session.run(`DELETE FROM ${stage} WHERE unsent <> 'filled'`)
    return missing.map(([n]) => puts[Number(n)]!)
  }

  /** The server's fastest way in. Values that are written otherwise there are turned as they come in. */
  private async loadData(
    session: Session,
    into: string,
    columns: readonly Pick<LaneColumn, 'type' | 'targetType'>[],
    targets: readonly string[],
    csv: CopyRange['csv'],
  ): Promise<{ rows: number; bytes: number }> {
    let bytes = 0
    const counted = async function* () {
      for await (const part of csv) {
        bytes += part.length
        yield part
      }
    }
    const turned = columns.map(column => turn(column))
    const list = targets.map((target, i) => (turned[i] ? `@v${i}` : target))
    const set = targets.flatMap((target, i) => (turned[i] ? [`${target} = ${turned[i]!(`@v${i}`)}`] : []))
    const rows = await session.run(
      `LOAD DATA LOCAL INFILE 'rows' ${into} CHARACTER SET utf8mb4 (${list.join(', ')})${set.length > 0 ? ` SET ${set.join(', ')}` : ''}`,
      { infileStreamFactory: () => Readable.from(loadDataLines(counted()), { objectMode: false }) },
    )
    // LOCAL turns what does not fit into warnings; nothing may be changed silently.
    const [warning] = await session.arrays('SHOW WARNINGS')
    if (warning) throw Object.assign(new Error(warning[2]!), { code: 'WARN_DATA_TRUNCATED' })
    return { rows, bytes }
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
    const { code = '', message } = thrown as { code?: string; message: string }
    if (thrown instanceof Failure || !MISFIT.test(code)) return mariadbFailure(thrown, this.where)
    const column = /column [`']?(?:[^`']*`\.`)*([^`']+)[`']/.exec(message)?.[1]
    const staged = /^c(\d+)$/.exec(column ?? '')
    const name = staged ? lane.columns[Number(staged[1])]?.target : column
    return new Failure(
      'value',
      `${printName(lane.table)}${name ? `.${name}` : ''}: ${message}.`,
      'Correct the value at the source and continue, or leave the table out and start again.',
      thrown,
    )
  }
}

function ddl(step: PrepareStep): string[] {
  if (step.step === 'create schema')
    return [`CREATE DATABASE IF NOT EXISTS ${ident(step.schema)} CHARACTER SET utf8mb4`]
  const columns = step.columns.map(
    ({ target, targetType, nullable }) =>
      `${ident(target)} ${targetType} ${nullable && !step.key.includes(target) ? 'NULL' : 'NOT NULL'}`,
  )
  const key = `PRIMARY KEY (${step.key.map(ident).join(', ')})`
  const create = `CREATE TABLE ${tableName(step.table)} (\n  ${[...columns, key].join(',\n  ')}\n) ENGINE = InnoDB`
  return step.step === 'create table' ? [create] : [`DROP TABLE IF EXISTS ${tableName(step.table)}`, create]
}

const names = (lane: TargetLane) => lane.columns.map(({ target }) => ident(target))

/** How canonical text is written in MariaDB, where that differs. */
function turn({
  type,
  targetType,
}: Pick<LaneColumn, 'type' | 'targetType'>): ((value: string) => string) | undefined {
  switch (type.kind) {
    case 'bool':
      return value => `IF(${value} IS NULL, NULL, ${value} = 't')`
    case 'binary':
      return value => `UNHEX(SUBSTR(${value}, 3))`
    case 'timestamp':
      return type.zoned && /^(datetime|timestamp)/.test(targetType)
        ? value => `TRIM(TRAILING '+00' FROM ${value})`
        : undefined
    case 'int':
      return /^(bit|year)/.test(targetType) ? value => `CAST(${value} AS UNSIGNED)` : undefined
    default:
      return undefined
  }
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

async function writeCheckpoint(session: Session, checkpoint: Checkpoint): Promise<void> {
  const [position, completeUpTo, lanes, consistent] = checkpointValues(checkpoint)
  const written = await session.run(
    `UPDATE ${STATE_TABLE} SET epoch = ${checkpoint.epoch}, position = ${position}, complete_up_to = ${completeUpTo},
            lanes = ${lanes}, consistent = ${consistent}, written_at = now(6)
      WHERE pipeline = ${literal(checkpoint.pipeline)} AND epoch <= ${checkpoint.epoch}`,
  )
  if (written === 0) throw overtaken()
}

function checkpointValues(checkpoint: Checkpoint): string[] {
  const { position, completeUpTo, lanes, consistent } = rowOf(checkpoint)
  return [
    literal(position),
    literal(completeUpTo.replace('T', ' ').replace('Z', '')),
    literal(lanes),
    consistent ? 'TRUE' : 'FALSE',
  ]
}
