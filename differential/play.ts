/** Plays one case: its life at a real source, followed by the engine's own runner into several targets, then compared. */
import { DuckDBInstance } from '@duckdb/node-api'
import { openSource, openTarget } from './connectors.ts'
import type { Dataset } from '@tide/core/records/dataset'
import { makePlan, type Plan } from '@tide/core/plan/plan'
import { sameValue } from '@tide/core/records/same'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { setTimeout as sleep } from 'node:timers/promises'
import type { Session } from '../packages/connectors/src/contract.ts'
import { JournalKeepers } from '../packages/engine/src/journal/keepers.ts'
import type { EngineParts } from '../packages/engine/src/parts.ts'
import type { Surroundings } from '../packages/engine/src/repositories.ts'
import { Runner } from '../packages/engine/src/runner.ts'
import { MemoryStore } from '../packages/engine/tests/memory-store.ts'
import type { DifferentialCase } from './case.ts'
import { mariadbDialect, postgresDialect } from './dialects.ts'
import { mariadbHand, postgresHand, type Hand, type Told } from './life.ts'
import { PRELUDE } from './postgres-types.ts'
import { renderingOf, type Rendering, type SystemKind } from './render.ts'
import type { TypeSpec } from './types.ts'
import { buildScript, type BuiltTable, type Dialect, type Script } from './script.ts'
import {
  CURSOR,
  PLAIN_SETTINGS,
  plainClient,
  TARGET_DATABASE,
  type SourceName,
  type Systems,
} from './systems.ts'

const FOLLOWS_WITHIN_MS = 30_000

export interface Outcome {
  target: SystemKind
  result: 'same' | 'different' | 'refused'
  detail: string
}

export interface Played {
  outcomes: Outcome[]
  told: Told
}

const surroundings: Surroundings = {
  now: Date.now,
  random: Math.random,
  sleep: (milliseconds, signal) => sleep(milliseconds, undefined, { signal }).catch(() => {}),
  newId: () => Math.random().toString(36).slice(2),
}

let cases = 0

export async function play(
  one: DifferentialCase,
  systems: Systems,
  sourceName: SourceName,
  targets: readonly SystemKind[],
): Promise<Played> {
  const name = `d${process.pid}_${++cases}`
  const folder = mkdtempSync(join(tmpdir(), 'constant-tide-differential-'))
  const source = await Source.open(systems, sourceName, name)
  const told: Told = { script: [], done: 0, refused: new Map() }
  const open = (id: string): Promise<Session> =>
    id === name ? source.session() : openTarget(systems, id as SystemKind, folder)
  const connections = { open, describe: async () => undefined }
  const journals = new JournalKeepers(join(folder, 'journal'), connections, surroundings)
  const following: Following[] = []
  try {
    const script = buildScript(one, source.dialect)
    const tables = await setUp(source, script, told)
    const catalogue = await withSession(open, name, session => session.catalogue())
    const outcomes: Outcome[] = []
    for (const target of targets) {
      const planned = await planFor(target, open, source, catalogue.datasets, tables, `${name}_there`)
      if (planned.refusal) outcomes.push({ target, result: 'refused', detail: planned.refusal })
      if (planned.plan.lanes.length > 0)
        following.push(new Following(target, name, planned.plan, journals, connections))
    }
    const phase = (n: number) => source.live(script, n, name, told)
    await phase(0)
    const during = phase(1)
    for (const one of following) one.begin()
    if (one.cutOff) {
      await sleep(100)
      await Promise.all(following.map(one => one.cutOff()))
    }
    await during
    await Promise.all(following.map(one => one.until(() => one.state === 'Following')))
    await phase(2)
    if (one.cutOff) {
      const later = phase(3)
      await Promise.all(following.map(one => one.cutOff()))
      await later
    } else await phase(3)
    await source.settle()
    // Times of some sources are told to the second.
    const ended = Date.now()
    for (const one of following) {
      const failure = await one.reach(ended)
      if (failure) {
        outcomes.push({ target: one.target, ...failure })
        continue
      }
      const rows = await one.rowsAgree(open, name)
      await one.halt()
      const detail = rows ?? (await compare(systems, source, tables, one, folder))
      outcomes.push({ target: one.target, result: detail ? 'different' : 'same', detail })
    }
    return { outcomes, told }
  } finally {
    await Promise.all(following.map(one => one.halt()))
    await journals.close()
    await source.cleanUp(name).catch(() => {})
    await dropTargets(systems, `${name}_there`).catch(() => {})
    rmSync(folder, { recursive: true, force: true })
  }
}

async function withSession<T>(
  open: (id: string) => Promise<Session>,
  id: string,
  body: (session: Session) => Promise<T>,
): Promise<T> {
  const session = await open(id)
  try {
    return await body(session)
  } finally {
    await session.close()
  }
}

async function setUp(source: Source, { tables, setup }: Script, told: Told): Promise<BuiltTable[]> {
  const made: BuiltTable[] = []
  for (const [i, table] of tables.entries()) {
    const { create, rows } = setup[i]!
    try {
      for (const sql of create) await source.hand.run(sql)
      told.script.push(...create)
      made.push(table)
    } catch (error) {
      const message = `CREATE: ${(error as Error).message.slice(0, 90)}`
      told.refused.set(message, (told.refused.get(message) ?? 0) + 1)
      await source.hand.run(`DROP TABLE IF EXISTS ${source.dialect.ident(table.name)}`)
      continue
    }
    for (const sql of rows) {
      await source.hand.run(sql).then(
        () => {
          told.script.push(sql)
          told.done++
        },
        (error: Error) => {
          const message = error.message.slice(0, 90)
          told.refused.set(message, (told.refused.get(message) ?? 0) + 1)
        },
      )
    }
  }
  return made
}

async function planFor(
  target: SystemKind,
  open: (id: string) => Promise<Session>,
  source: Source,
  datasets: readonly Dataset[],
  tables: readonly BuiltTable[],
  targetSchema: string,
): Promise<{ plan: Plan; refusal: string }> {
  return withSession(open, target, async session => {
    const there = await session.catalogue()
    const make = (chosen: readonly string[]) =>
      makePlan({
        tables: chosen.map(name => ({ namespace: source.namespace, name })),
        targetSchema,
        sameKind: target === source.kind,
        source: datasets,
        target: there.datasets,
        targetSchemas: there.schemas,
        profile: session.target!.profile,
        claims: [],
        own: [],
      })
    const all = make(tables.map(({ name }) => name))
    const refusals = all.notes.filter(({ level }) => level === 'refused')
    const refused = new Set(refusals.map(({ table }) => table?.name))
    return {
      plan: make(tables.map(({ name }) => name).filter(name => !refused.has(name))),
      refusal: refusals.map(({ message }) => message).join(' '),
    }
  })
}

/** One pipeline, run as an engine runs it. */
class Following {
  readonly target: SystemKind
  readonly plan: Plan
  private readonly store: MemoryStore
  private readonly parts: EngineParts
  private runner: Runner
  private running: Promise<void> | undefined

  constructor(
    target: SystemKind,
    from: string,
    plan: Plan,
    journals: JournalKeepers,
    connections: EngineParts['connections'],
  ) {
    this.target = target
    this.plan = plan
    const definition = { version: 1, name: target, from, to: target, targetSchema: from, tables: [] } as const
    this.store = new MemoryStore({ ...definition, tables: [] }, Date.now)
    Object.assign(this.store.record, { id: `${from}_${target}`, holder: 'here', state: 'Ready' })
    const nothing = async () => {}
    this.parts = {
      name: 'here',
      home: 'here',
      connections,
      surroundings,
      journals,
      pipelines: this.store.pipelines,
      leases: this.store.leases,
      history: {
        log: nothing,
        addFigures: nothing,
        figures: async () => [],
        trimFigures: nothing,
        beginRun: nothing,
        endRun: nothing,
      },
    }
    const { record } = this.store
    void this.store.pipelines.start(
      from,
      { ...plan, definition: record.definition },
      new Date().toISOString(),
      null,
    )
    this.runner = this.made()
  }

  private made(): Runner {
    return new Runner(this.parts, structuredClone(this.store.record), 'here')
  }

  get state(): string {
    return this.store.record.state
  }

  begin(): void {
    this.running = this.runner.run()
  }

  /** Ends it where it stands, and begins again from what the target says. */
  async cutOff(): Promise<void> {
    await this.halt()
    if (this.state === 'Stopped') return
    this.runner = this.made()
    this.begin()
  }

  async halt(): Promise<void> {
    this.runner.interrupt()
    await this.running
  }

  async until(what: () => boolean): Promise<boolean> {
    const began = Date.now()
    while (!what() && this.state !== 'Stopped') {
      if (Date.now() - began > FOLLOWS_WITHIN_MS) return false
      await sleep(25)
    }
    return this.state !== 'Stopped'
  }

  /** Waits until all that was committed before has landed; says what came in between, if anything. */
  async reach(ended: number): Promise<Pick<Outcome, 'result' | 'detail'> | undefined> {
    const reached = await this.until(() => {
      const { state, consistent, completeUpTo } = this.runner.status
      return state === 'Following' && consistent && Date.parse(completeUpTo ?? '') > ended
    })
    if (reached) return undefined
    const { reason } = this.store.record
    if (!reason) return { result: 'different', detail: `stuck: ${JSON.stringify(this.runner.status)}` }
    // A value that does not fit is told with its row, and nothing is lost; anything else must not happen here.
    return {
      result: reason.kind === 'value' ? 'refused' : 'different',
      detail: `stopped: ${reason.message} ${reason.remedy}`,
    }
  }

  /** Whether *Rows*, which shows single rows of both sides, finds the same what is the same; what it does not, in words. */
  async rowsAgree(open: (id: string) => Promise<Session>, from: string): Promise<string | undefined> {
    const [source, target] = [await open(from), await open(this.target)]
    try {
      for (const { source: name, target: table, columns, key } of this.plan.lanes) {
        const places = key.map(part => columns.findIndex(column => column.source === part))
        const here = columns.map(column => ({
          name: column.source,
          type: column.type,
          nativeType: column.nativeType,
        }))
        const there = columns.map(column => ({
          name: column.target,
          type: column.type,
          nativeType: column.targetType,
        }))
        const row = await source.row({ name, columns: here, key }, null)
        if (!row) continue
        const value = places.map(place => row[place]!)
        const again = await source.row({ name, columns: here, key }, value)
        const landed = await target.row(
          { name: table, columns: there, key: places.map(place => columns[place]!.target) },
          value,
        )
        for (const [side, found] of [
          ['source', again],
          ['target', landed],
        ] as const) {
          if (!found)
            return `Rows: ${table.name} ${side} does not find the row with ${JSON.stringify(value).slice(0, 200)}`
          const odd = columns.findIndex((column, i) => !sameValue(row[i]!, found[i]!, column.type))
          if (odd !== -1)
            return `Rows: ${table.name}.${columns[odd]!.source} (${columns[odd]!.nativeType} as ${columns[odd]!.targetType}) ${side}: ${String(row[odd]).slice(0, 100)} is shown as ${String(found[odd]).slice(0, 100)}`
        }
      }
      return undefined
    } finally {
      await source.close()
      await target.close()
    }
  }
}

/** What differs, in words; nothing when nothing does. */
async function compare(
  systems: Systems,
  source: Source,
  tables: readonly BuiltTable[],
  following: Following,
  folder: string,
): Promise<string> {
  for (const lane of following.plan.lanes) {
    const table = tables.find(({ name }) => name === lane.source.name)!
    const columns = lane.columns.filter(column => column.source !== CURSOR)
    const target = identOf(following.target)
    const renderings = columns.map(column =>
      renderingOf(
        source.kind,
        following.target,
        specOf(table, column.source),
        source.dialect.ident(column.source),
        column,
        target(column.target),
      ),
    )
    const here = await source.rows(
      `SELECT ${renderings.map(one => one.source).join(', ')} FROM ${source.dialect.ident(source.namespace)}.${source.dialect.ident(table.name)}`,
    )
    const there = await targetRows(
      systems,
      following.target,
      folder,
      `SELECT ${renderings.map(one => one.target).join(', ')} FROM ${target(lane.target.namespace)}.${target(lane.target.name)}`,
    )
    const difference = differ(normal(here, renderings), normal(there, renderings))
    if (difference)
      return `${table.name} (${columns.map(({ source, nativeType, targetType }) => `${source}: ${nativeType} → ${targetType}`).join('; ')}): ${difference}`
  }
  return ''
}

/** What is computed is a whole number. */
const COMPUTED: TypeSpec = { sql: 'int', family: 'number', value: String }

function specOf(table: BuiltTable, name: string): TypeSpec {
  const { spec, generated } = table.columns.find(column => column.name === name)!
  return generated ? COMPUTED : spec
}

const identOf = (kind: SystemKind) =>
  kind === 'mariadb' ? mariadbDialect.ident : (name: string) => `"${name.replaceAll('"', '""')}"`

function normal(rows: (string | null)[][], renderings: readonly Rendering[]): string[] {
  return rows
    .map(row => JSON.stringify(row.map((value, i) => (value === null ? null : renderings[i]!.normal(value)))))
    .sort()
}

function differ(here: string[], there: string[]): string {
  if (JSON.stringify(here) === JSON.stringify(there)) return ''
  const left = new Map<string, number>()
  for (const row of there) left.set(row, (left.get(row) ?? 0) + 1)
  const missing = here.filter(row => {
    const count = left.get(row) ?? 0
    left.set(row, count - 1)
    return count <= 0
  })
  const extra = [...left].flatMap(([row, count]) => (count > 0 ? [row] : []))
  return `${here.length} rows at the source, ${there.length} at the target; only at the source ${missing.slice(0, 2).join(' ').slice(0, 700)}; only at the target ${extra.slice(0, 2).join(' ').slice(0, 700)}`
}

async function targetRows(
  systems: Systems,
  kind: SystemKind,
  folder: string,
  sql: string,
): Promise<(string | null)[][]> {
  if (kind === 'duckdb') {
    const instance = await DuckDBInstance.create(join(folder, 'warehouse.duckdb'), { threads: '1' })
    const connection = await instance.connect()
    try {
      await connection.run(`SET TimeZone = 'UTC'`)
      return (await connection.runAndReadAll(sql)).getRows() as (string | null)[][]
    } finally {
      connection.disconnectSync()
      instance.closeSync()
    }
  }
  if (kind === 'mariadb') {
    const session = await systems.mariadb.connect()
    return session.arrays(sql).finally(() => session.close())
  }
  const client = await plainClient({ ...systems.postgres.config, database: TARGET_DATABASE })
  try {
    await client.query(PLAIN_SETTINGS)
    return (await client.query({ text: sql, rowMode: 'array' })).rows
  } finally {
    await client.end()
  }
}

async function dropTargets(systems: Systems, schema: string): Promise<void> {
  const session = await systems.mariadb.connect()
  await session.run(`DROP DATABASE IF EXISTS ${schema}`)
  await session.close()
  const client = await plainClient({ ...systems.postgres.config, database: TARGET_DATABASE })
  await client.query(`DROP SCHEMA IF EXISTS ${schema} CASCADE`)
  await client.end()
}

/** A source with a schema of its own for the case. */
class Source {
  readonly kind: 'postgres' | 'mariadb'
  readonly dialect: Dialect
  readonly namespace: string
  readonly session: () => Promise<Session>
  readonly hand: Hand
  private readonly other: Hand | undefined
  private readonly drop: string

  private constructor(parts: {
    kind: 'postgres' | 'mariadb'
    dialect: Dialect
    namespace: string
    session: () => Promise<Session>
    hands: Hand[]
    drop: string
  }) {
    this.kind = parts.kind
    this.dialect = parts.dialect
    this.namespace = parts.namespace
    this.session = parts.session
    this.hand = parts.hands[0]!
    this.other = parts.hands[1]
    this.drop = parts.drop
  }

  static async open(systems: Systems, name: SourceName, schema: string): Promise<Source> {
    if (name === 'mariadb') {
      const open = async () => {
        const session = await systems.mariadb.connect()
        await session.run(`CREATE DATABASE IF NOT EXISTS ${schema} CHARACTER SET utf8mb4`)
        await session.run(`USE ${schema}`)
        await session.run('SET innodb_lock_wait_timeout = 1')
        return session
      }
      return new Source({
        kind: 'mariadb',
        dialect: mariadbDialect,
        namespace: schema,
        session: () => openSource(systems, 'mariadb'),
        hands: [await mariadbHand(open), await mariadbHand(open)],
        drop: `DROP DATABASE ${schema}`,
      })
    }
    const config = name === 'embedded' ? systems.embedded! : systems.postgres.config
    const clients = [await plainClient(config)]
    if (name !== 'embedded') clients.push(await plainClient(config))
    const settings = `SET LOCAL search_path = ${schema}, public; SET LOCAL lock_timeout = '500ms'`
    const hands = clients.map(client => postgresHand(client, settings))
    for (const sql of [`CREATE SCHEMA ${schema}`, ...PRELUDE]) await hands[0]!.run(sql)
    return new Source({
      kind: 'postgres',
      dialect: postgresDialect(name === 'cursor' ? CURSOR : undefined),
      namespace: schema,
      session: () => openSource(systems, name),
      hands,
      drop: `DROP SCHEMA ${schema} CASCADE`,
    })
  }

  /** The transactions of a phase; those of the second session run beside the others. */
  async live({ transactions }: Script, phase: number, name: string, told: Told): Promise<void> {
    const mine = transactions
      .map((one, i) => [one, `${name}.${i}`] as const)
      .filter(([one]) => one.phase === phase)
    const work = async (hand: Hand, session: number) => {
      await hand.settle()
      for (const [one, id] of mine) {
        if ((this.other ? one.session : 0) === session) await hand.transaction(one, id, told)
      }
    }
    await Promise.all([work(this.hand, 0), ...(this.other ? [work(this.other, 1)] : [])])
  }

  async settle(): Promise<void> {
    await this.hand.settle()
    await this.other?.settle()
  }

  rows(sql: string): Promise<(string | null)[][]> {
    return this.hand.query(sql)
  }

  async cleanUp(reader: string): Promise<void> {
    await this.settle().catch(() => {})
    const session = await this.session()
    await session.log?.close(reader)
    for (const target of ['duckdb', 'postgres', 'mariadb'])
      await session.source?.stopCapture(`${reader}_${target}`)
    await session.close()
    await this.hand.run(this.drop)
    await this.hand.close()
    await this.other?.close()
  }
}
