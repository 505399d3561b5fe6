/** What was sent, each pipeline's in a DuckDB file of its own below the data folder. */
import type { SaidByHand, SendResult, SendRow, SendRun, SentRecord } from '@tide/core/api/send'
import { isId } from '@tide/core/definition/id'
import type { ByHand } from '@tide/core/send/by-hand'
import { Turns } from '@tide/core/pace/turns'
import { createHash } from 'node:crypto'
import { mkdir, readdir, rm } from 'node:fs/promises'
import { join } from 'node:path'
import type {
  Compared,
  CompareAsked,
  SentCall,
  SentOutcome,
  SentState,
  SentStates,
  SentTotals,
} from '../contract/sent.ts'
import type { DuckdbConnection, HostValue } from '../duckdb/host.ts'
import { lease, type Lease } from '../duckdb/instance.ts'
import { compare, keyOf, valuesOf } from './compared.ts'
import { endedCall, LISTED, statementsOf, type EndedCall, type Statement } from './ended.ts'
import { Intents } from './intents.ts'

/** Results of so many runs are kept. */
const RUNS_KEPT = 50
/** What is usual is known by the last so many whole runs, and not by fewer than that. */
const [USUAL_OF, USUAL_FROM] = [11, 5]

/**
 * `sent`: by row key, what the app has by us (`vals`), and the row as it was told then (`told`), by which it is known whether it says anything new.
 * `over`: calls whose intents are no more (see `Intents`). `refused`: what the app would not have, and the row that it was. `by_hand`: what
 * somebody has said of a row, for as long as it tells the same.
 */
const TABLES = [
  'CREATE TABLE IF NOT EXISTS meta(name VARCHAR, value VARCHAR)',
  'CREATE TABLE IF NOT EXISTS sent(key VARCHAR NOT NULL, id VARCHAR, vals VARCHAR NOT NULL, told VARCHAR, done_at VARCHAR NOT NULL)',
  'CREATE TABLE IF NOT EXISTS over(once VARCHAR NOT NULL)',
  'CREATE TABLE IF NOT EXISTS refused(key VARCHAR NOT NULL, op VARCHAR, id VARCHAR, vals VARCHAR, was VARCHAR, told VARCHAR, field VARCHAR, reason VARCHAR, remedy VARCHAR, done_at VARCHAR)',
  'CREATE TABLE IF NOT EXISTS ran(n BIGINT, told VARCHAR)',
  'CREATE SEQUENCE IF NOT EXISTS result_number',
  `CREATE TABLE IF NOT EXISTS result(n BIGINT DEFAULT nextval('result_number'), run VARCHAR NOT NULL, done_at VARCHAR NOT NULL, op VARCHAR NOT NULL, key VARCHAR NOT NULL, id VARCHAR, was VARCHAR, vals VARCHAR, field VARCHAR, reason VARCHAR)`,
  'CREATE TABLE IF NOT EXISTS run(n BIGINT, run VARCHAR)',
  'CREATE TABLE IF NOT EXISTS by_hand(key VARCHAR NOT NULL, told VARCHAR NOT NULL, vals VARCHAR, note VARCHAR, said_at VARCHAR NOT NULL)',
]

export class FileSentStates implements SentStates {
  private readonly folder: string
  private readonly making = new Turns()

  constructor(folder: string) {
    this.folder = folder
  }

  async open(pipeline: string, place: string): Promise<SentState> {
    await mkdir(this.folder, { recursive: true, mode: 0o700 })
    const path = join(this.folder, `${prefixOf(pipeline)}${nameOf(place)}`)
    const file = await lease(`${path}.duckdb`, '256MB')
    try {
      const connection = await file.connect()
      // Of two who make a table at once one would be refused, though it is there then.
      await this.making.run(async () => {
        for (const sql of TABLES) await connection.run(sql)
      })
      return new OpenSentState(file, connection, new Intents(`${path}.intents`))
    } catch (thrown) {
      await file.release()
      throw thrown
    }
  }

  async remove(pipeline: string): Promise<void> {
    const prefix = prefixOf(pipeline)
    const names = await readdir(this.folder).catch(() => []) // nothing was ever sent
    for (const name of names.filter(one => one.startsWith(prefix)))
      await rm(join(this.folder, name), { force: true })
  }
}

function prefixOf(pipeline: string): string {
  if (isId(pipeline)) return `${pipeline}.`
  throw new Error(`${pipeline} is no id`)
}

function nameOf(place: string): string {
  return createHash('sha256').update(place).digest('hex').slice(0, 16)
}

/** To be written with others. */
interface Wanted extends EndedCall {
  done(thrown?: unknown): void
}

class OpenSentState implements SentState {
  private readonly file: Lease
  private readonly connection: DuckdbConnection
  private readonly turns = new Turns()
  private readonly wanted: Wanted[] = []
  private readonly intents: Intents

  constructor(file: Lease, connection: DuckdbConnection, intents: Intents) {
    this.file = file
    this.connection = connection
    this.intents = intents
  }

  async totals(): Promise<SentTotals> {
    const [[sent, held, ran, last]] = (await this.ask(
      `SELECT (SELECT count(*) FROM sent)::INT, (SELECT count(*) FROM refused)::INT, EXISTS (FROM meta WHERE name = 'fields'),
         (SELECT max(value) FROM meta WHERE name = 'last')`,
    )) as [[number, number, boolean, string | null]]
    const runs = await this.ask(`SELECT told FROM ran ORDER BY n DESC LIMIT ${USUAL_OF}`)
    const usual = usualOf(runs.map(([told]) => JSON.parse(String(told)) as SendRun))
    return { sent, held, ran, last: last === null ? null : (JSON.parse(last) as SendRun), usual }
  }

  async compare(lines: AsyncIterable<Uint8Array>, asked: CompareAsked): Promise<Compared> {
    const connection = await this.file.connect()
    const closed = () => this.file.disconnect(connection)
    try {
      return await compare(connection, await this.file.staging(), lines, asked, closed)
    } catch (thrown) {
      await closed()
      throw thrown
    }
  }

  async unsettled(): Promise<SentCall[]> {
    const calls = await this.intents.begun()
    if (calls.length === 0) return []
    const over = new Set((await this.ask('SELECT once FROM over')).map(([once]) => once))
    return calls.filter(({ once }) => !over.has(once))
  }

  begin(call: SentCall): Promise<void> {
    return this.intents.begin(call)
  }

  end(call: SentCall, outcomes: readonly SentOutcome[], at: string): Promise<void> {
    return this.soon(endedCall(call, outcomes, at))
  }

  /** With what others want to be written by then, in one transaction: calls that are under way at once wait for one disk. */
  private soon(wanted: Omit<Wanted, 'done'>): Promise<void> {
    return new Promise((resolve, reject) => {
      this.wanted.push({
        ...wanted,
        done: thrown => (thrown === undefined ? resolve() : reject(thrown as Error)),
      })
      void this.turns.run(() => this.writeWanted())
    })
  }

  private async writeWanted(): Promise<void> {
    const wanted = this.wanted.splice(0)
    if (wanted.length === 0) return // another turn has written it
    const tell = (thrown?: unknown) => wanted.forEach(({ done }) => done(thrown))
    try {
      await this.write(statementsOf(wanted))
      tell()
    } catch (thrown) {
      tell(thrown)
    }
  }

  forget({ once }: SentCall): Promise<void> {
    return this.intents.forget(once)
  }

  letGo(keys: readonly string[][] | 'all'): Promise<void> {
    if (keys === 'all') return this.writing([['DELETE FROM refused', []]])
    return this.writing(
      ['refused', 'by_hand'].map((table): Statement => [
        `DELETE FROM ${table} WHERE key IN (${LISTED})`,
        [keysListed(keys)],
      ]),
    )
  }

  sayByHand(said: readonly ByHand[], run: string, at: string): Promise<void> {
    const keys = keysListed(said.map(({ key }) => key))
    const out = said.filter(({ values }) => values === null)
    return this.writing([
      [`DELETE FROM by_hand WHERE key IN (${LISTED})`, [keys]],
      ...said.map(({ key, told, values, note }): Statement => [
        `INSERT INTO by_hand SELECT $1, $2, nullif($3, ''), nullif($4, ''), $5`,
        [JSON.stringify(key), told, values === null ? '' : JSON.stringify(values), note ?? '', at],
      ]),
      [`DELETE FROM refused WHERE key IN (${LISTED})`, [keysListed(out.map(({ key }) => key))]],
      ...out.map(({ key, note }): Statement => [
        `INSERT INTO result(run, done_at, op, key, reason) VALUES ($1, $2, 'leave out', $3, $4)`,
        [run, at, JSON.stringify(key), note ?? ''],
      ]),
    ])
  }

  forgetByHand(keys: readonly string[][]): Promise<void> {
    return this.writing([[`DELETE FROM by_hand WHERE key IN (${LISTED})`, [keysListed(keys)]]])
  }

  async byHand(): Promise<(ByHand & SaidByHand)[]> {
    const rows = await this.ask(
      'SELECT key, told, vals, note, said_at FROM by_hand ORDER BY said_at DESC, key',
    )
    return rows.map(([key, told, vals, note, at]) => ({
      key: keyOf(key!),
      told: String(told),
      values: vals === null ? null : valuesOf(vals!),
      note: note as string | null,
      at: String(at),
    }))
  }

  async keepRun(run: string, fields?: readonly string[], last?: SendRun): Promise<void> {
    // Of calls that are no longer told of, nobody asks whether they are over.
    await this.intents.clear()
    const whole: Statement[] = [
      [`DELETE FROM meta WHERE name = 'fields'`, []],
      [`INSERT INTO meta VALUES ('fields', $1)`, [JSON.stringify(fields)]],
    ]
    const ranThen: Statement[] = [
      ['INSERT INTO ran SELECT coalesce(max(n), 0) + 1, $1 FROM ran', [JSON.stringify(last)]],
      [`DELETE FROM ran WHERE n <= (SELECT max(n) FROM ran) - ${USUAL_OF}`, []],
    ]
    const told: Statement[] = [
      [`DELETE FROM meta WHERE name = 'last'`, []],
      [`INSERT INTO meta VALUES ('last', $1)`, [JSON.stringify(last)]],
    ]
    await this.writing([
      ['DELETE FROM over', []],
      ...(fields === undefined || last === undefined ? [] : ranThen),
      ...(fields === undefined ? [] : whole),
      ...(last === undefined ? [] : told),
      ['INSERT INTO run SELECT coalesce(max(n), 0) + 1, $1 FROM run', [run]],
      [`DELETE FROM run WHERE n <= (SELECT max(n) FROM run) - ${RUNS_KEPT}`, []],
      [
        `DELETE FROM result WHERE run NOT IN (SELECT run FROM run)
           AND n <= coalesce((SELECT max(value::BIGINT) FROM meta WHERE name = 'logged'), n)`,
        [],
      ],
    ])
  }

  async results({
    run = '',
    find = '',
    refused = false,
    limit,
  }: {
    run?: string
    find?: string
    refused?: boolean
    limit: number
  }): Promise<SendResult[]> {
    const rows = await this.ask(
      `SELECT ${RESULT} FROM result
       WHERE ($1 = '' OR run = $1) AND ($2 = '' OR contains(lower(concat_ws(' ', key, id, vals, was, reason)), lower($2)))
         ${refused ? `AND reason IS NOT NULL AND op <> 'leave out'` : ''}
       ORDER BY n DESC LIMIT ${Math.trunc(limit)}`,
      [run, find],
    )
    return rows.map(resultOf)
  }

  async resultsAfter(n: number, limit: number): Promise<(SendResult & { n: number })[]> {
    const rows = await this.ask(
      `SELECT ${RESULT}, n::DOUBLE FROM result WHERE n > ${Math.trunc(n)} ORDER BY result.n LIMIT ${Math.trunc(limit)}`,
    )
    return rows.map(row => ({ ...resultOf(row), n: Number(row.at(-1)) }))
  }

  async logged(): Promise<number | null> {
    const [[value]] = (await this.ask(`SELECT max(value) FROM meta WHERE name = 'logged'`)) as [[HostValue]]
    return value === null ? null : Number(value)
  }

  setLogged(n: number | null): Promise<void> {
    return this.writing([
      [`DELETE FROM meta WHERE name = 'logged'`, []],
      ...(n === null ? [] : [[`INSERT INTO meta VALUES ('logged', $1)`, [String(n)]] as Statement]),
    ])
  }

  async records({ find = '', limit }: { find?: string; limit: number }): Promise<SentRecord[]> {
    const rows = await this.ask(
      `SELECT key, id, vals, done_at FROM sent WHERE $1 = '' OR contains(lower(concat_ws(' ', key, id, vals)), lower($1))
       ORDER BY done_at DESC, key LIMIT ${Math.trunc(limit)}`,
      [find],
    )
    return rows.map(recordOf)
  }

  async held(limit: number): Promise<SendRow[]> {
    const rows = await this.ask(
      `SELECT key, id, vals, was, field, reason, remedy FROM refused ORDER BY done_at DESC, key LIMIT ${Math.trunc(limit)}`,
    )
    return rows.map(([key, id, vals, was, field, reason, remedy]) => ({
      op: 'held',
      key: keyOf(key!),
      id: id as string | null,
      was: was === null ? null : valuesOf(was!),
      values: vals === null ? null : valuesOf(vals!),
      field: field as string | null,
      reason: String(reason ?? ''),
      remedy: String(remedy ?? ''),
    }))
  }

  async withIds(ids: readonly string[]): Promise<SentRecord[]> {
    const rows = await this.ask(`SELECT key, id, vals, done_at FROM sent WHERE id IN (${LISTED})`, [
      JSON.stringify(ids),
    ])
    return rows.map(recordOf)
  }

  async withoutIds(ids: readonly string[], limit: number): Promise<SentRecord[]> {
    const rows = await this.ask(
      `SELECT key, id, vals, done_at FROM sent WHERE id IS NULL OR id NOT IN (${LISTED}) ORDER BY key LIMIT ${Math.trunc(limit)}`,
      [JSON.stringify(ids)],
    )
    return rows.map(recordOf)
  }

  async close(): Promise<void> {
    await this.file.disconnect(this.connection).catch(() => {}) // its process may have ended
    await this.intents.close()
    await this.file.release()
  }

  private ask(sql: string, values: string[] = []): Promise<HostValue[][]> {
    return this.turns.run(() => this.connection.ask(sql, values))
  }

  /** In one transaction. */
  private writing(statements: readonly Statement[]): Promise<void> {
    return this.turns.run(() => this.write(statements))
  }

  private async write(statements: readonly Statement[]): Promise<void> {
    const { connection } = this
    await connection.run('BEGIN')
    try {
      for (const [sql, values] of statements) await connection.run(sql, values)
      await connection.run('COMMIT')
    } catch (thrown) {
      await connection.run('ROLLBACK').catch(() => {})
      throw thrown
    }
  }
}

function usualOf(runs: readonly SendRun[]): SentTotals['usual'] {
  if (runs.length < USUAL_FROM) return null
  const middle = (of: (run: SendRun) => number) =>
    runs.map(of).sort((a, b) => a - b)[Math.floor(runs.length / 2)]!
  return {
    create: middle(({ created }) => created),
    change: middle(({ changed }) => changed),
    remove: middle(({ removed }) => removed),
  }
}

function keysListed(keys: readonly string[][]): string {
  return JSON.stringify(keys.map(key => JSON.stringify(key)))
}

const RESULT = 'run, done_at, op, key, id, was, vals, field, reason'

function resultOf([run, at, op, key, id, was, vals, field, reason]: HostValue[]): SendResult {
  // Of what a person has left out, the reason is that person's.
  const byHand = op === 'leave out'
  return {
    run: String(run),
    at: String(at),
    op: op as SendResult['op'],
    key: keyOf(key!),
    id: id as string | null,
    was: was === null ? null : valuesOf(was!),
    values: vals === null ? null : valuesOf(vals!),
    note: byHand ? String(reason) : null,
    refused: reason === null || byHand ? null : { field: field as string | null, reason: String(reason) },
  }
}

function recordOf([key, id, vals, at]: HostValue[]): SentRecord {
  return { key: keyOf(key!), id: id as string | null, values: valuesOf(vals!), at: String(at) }
}
