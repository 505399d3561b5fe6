/**
 * A result held against what was sent, by one join in the file that keeps that. Texts, which may be long, are never what is joined or sorted: DuckDB
 * holds such in memory. They stand beside the differences, in `now` and `had`.
 */
import type { SendCounts, SendRow } from '@tide/core/api/send'
import { changedOf, written, type Encoded } from '@tide/core/send/compared-line'
import { mayChange, mayCreate, mayRemove, type SendDefinition } from '@tide/core/definition/send'
import type { Compared, CompareAsked, SentOperation } from '../contract/sent.ts'
import type { DuckdbConnection, HostValue } from '../duckdb/host.ts'
import { literal } from '../duckdb/sql.ts'
import { createWriteStream } from 'node:fs'
import { rm } from 'node:fs/promises'
import { randomUUID } from 'node:crypto'
import { join } from 'node:path'
import { Readable } from 'node:stream'
import { pipeline } from 'node:stream/promises'

const CSV = `delim = ',', quote = '"', escape = '"', nullstr = '', allow_quoted_nulls = false, header = false, auto_detect = false, new_line = '\\n', max_line_size = 33554432, buffer_size = 67108864`
/** Rows that are looked at one by one, at a time. */
const PAGE = 1_000
const DOUBLED_SHOWN = 5
/** Texts are compared as they are up to this length, longer ones by their digests. */
const SHORT_BYTES = 500

const matchNames = (count: number) => Array.from({ length: count }, (_, i) => `m${i}`)

/** Into a table of its own, by a file that only the process which holds the database may read. */
async function stage(
  connection: DuckdbConnection,
  { staging, table, columns }: { staging: string; table: string; columns: Record<string, string> },
  lines: AsyncIterable<Uint8Array>,
): Promise<void> {
  const file = join(staging, `${randomUUID()}.csv`)
  try {
    await pipeline(Readable.from(lines), createWriteStream(file, { mode: 0o600 }))
    const types = Object.entries(columns).map(([name, type]) => `${name}: '${type}'`)
    await connection.run(
      `CREATE OR REPLACE TEMP TABLE ${table} AS SELECT * FROM read_csv(${literal(file)}, columns = {${types.join(', ')}}, ${CSV})`,
    )
  } finally {
    await rm(file, { force: true })
  }
}

export async function compare(
  connection: DuckdbConnection,
  staging: string,
  lines: AsyncIterable<Uint8Array>,
  { matches, again, fields }: CompareAsked,
  closed: () => Promise<void>,
): Promise<Compared> {
  const names = matchNames(matches)
  const texts = ['key', 'vals', 'firsts', 'field', 'reason', 'remedy', ...names].map(name => [
    name,
    'VARCHAR',
  ])
  const columns = { n: 'BIGINT', ...(Object.fromEntries(texts) as Record<string, string>) }
  await stage(connection, { staging, table: 'result', columns }, lines)
  const [[rows, keyless]] = (await connection.ask(
    'SELECT count(*)::INT, count(*) FILTER (key IS NULL)::INT FROM result',
  )) as [[number, number]]
  const doubled = (
    await connection.ask(
      `SELECT key, count(*)::INT FROM result WHERE key IS NOT NULL GROUP BY key HAVING count(*) > 1 ORDER BY key LIMIT ${DOUBLED_SHOWN}`,
    )
  ).map(([key, times]) => ({ key: keyOf(key!), rows: times as number }))
  await differences(connection, names, again)
  if (again === undefined) await leaveSame(connection, fields)
  const [[fresh]] = (await connection.ask(`SELECT count(*)::INT FROM difference WHERE kind = 'new'`)) as [
    [number],
  ]
  const whole = again !== undefined
  return new OpenCompared(connection, { staging, names, rows, keyless, doubled, fresh, whole, closed })
}

async function differences(
  connection: DuckdbConnection,
  names: readonly string[],
  again: CompareAsked['again'],
): Promise<void> {
  const keys = again === undefined || again === 'all' ? [] : again.keys
  await connection.run(
    'CREATE OR REPLACE TEMP TABLE wanted AS SELECT unnest(from_json($1, \'["VARCHAR"]\')) AS key',
    [JSON.stringify(keys.map(key => JSON.stringify(key)))],
  )
  const isAgain = again === 'all' ? 'true' : 'key IN (SELECT key FROM wanted)'
  const only =
    again !== undefined && again !== 'all' && again.only ? 'AND key IN (SELECT key FROM wanted)' : ''
  const matches = names.map(name => `, ${name}`).join('')
  await connection.run(`
    CREATE OR REPLACE TEMP TABLE difference AS
    SELECT (row_number() OVER (ORDER BY n NULLS LAST, key))::INT AS d, * FROM (
      SELECT r.n, key, r.place, s.id, r.field, r.reason, r.remedy${matches},
        CASE
          WHEN r.n IS NULL THEN 'gone'
          WHEN r.reason IS NOT NULL THEN 'bad'
          WHEN s.key IS NULL THEN 'new'
          WHEN s.says IS DISTINCT FROM r.says OR ${isAgain} THEN 'changed'
          ELSE 'same'
        END AS kind
      FROM (SELECT n, key, rowid AS place, field, reason, remedy${matches}, ${says('vals')} FROM result WHERE key IS NOT NULL) r
      FULL JOIN (SELECT key, id, ${says('told')} FROM sent) s USING (key))
    WHERE kind <> 'same' ${only}`)
  await connection.run(
    'CREATE OR REPLACE TEMP TABLE now AS SELECT d, vals, firsts FROM result r JOIN difference ON place = r.rowid',
  )
  await connection.run(
    'CREATE OR REPLACE TEMP TABLE had AS SELECT d, s.vals AS was FROM sent s JOIN difference USING (key)',
  )
  await connection.run('DROP TABLE temp.result')
}

/** A text to tell equal ones by. */
function says(text: string): string {
  return `CASE WHEN strlen(${text}) > ${SHORT_BYTES} THEN sha256(${text}) ELSE ${text} END AS says`
}

/** What differs as text, and says nothing new: a value that has gone and is left as it is in the app. */
async function leaveSame(connection: DuckdbConnection, fields: readonly string[]): Promise<void> {
  const [[before]] = (await connection.ask(`SELECT max(value) FROM meta WHERE name = 'fields'`)) as [
    [HostValue],
  ]
  const suspect =
    before === JSON.stringify(fields) ? `AND d IN (SELECT d FROM now WHERE vals LIKE '%:null%')` : ''
  await connection.run(
    `CREATE OR REPLACE TEMP TABLE suspect AS SELECT d FROM difference WHERE kind = 'changed' ${suspect}`,
  )
  let after = 0
  for (;;) {
    const page = await connection.ask(`SELECT d FROM suspect WHERE d > ${after} ORDER BY d LIMIT ${PAGE}`)
    if (page.length === 0) return
    const numbers = page.map(([d]) => d as number)
    after = numbers.at(-1)!
    const texts = await textsOf(connection, numbers)
    const same = numbers.filter(d => {
      const { vals, was } = texts.get(d)!
      // Whoever only looks may be overtaken by one who sends.
      if (was === null) return false
      return Object.keys(changedOf(valuesOf(was), written(encodedOf(vals)))).length === 0
    })
    if (same.length > 0)
      await connection.run(`DELETE FROM difference WHERE d IN ${LISTED}`, [JSON.stringify(same)])
  }
}

/** Numbers, given as JSON. */
const LISTED = `(SELECT unnest(from_json($1, '["INT"]')))`

interface Texts {
  vals: HostValue
  firsts: HostValue
  was: HostValue
}

/** What differences with these numbers say, and, but for those that are new (`areNew`), what the app had. */
async function textsOf(
  connection: DuckdbConnection,
  numbers: readonly number[],
  areNew = false,
): Promise<Map<number, Texts>> {
  const texts = new Map<number, Texts>(numbers.map(d => [d, { vals: null, firsts: null, was: null }]))
  if (numbers.length === 0) return texts
  const [first, last] = [Math.min(...numbers), Math.max(...numbers)]
  const isRange = last - first + 1 === numbers.length
  const where = `WHERE d BETWEEN ${first} AND ${last}${isRange ? '' : ` AND d IN ${LISTED}`}`
  const wanted = isRange ? [] : [JSON.stringify(numbers)]
  for (const [d, vals, firsts] of await connection.ask(`SELECT d, vals, firsts FROM now ${where}`, wanted))
    Object.assign(texts.get(d as number)!, { vals, firsts })
  if (areNew) return texts
  for (const [d, was] of await connection.ask(`SELECT d, was FROM had ${where}`, wanted))
    Object.assign(texts.get(d as number)!, { was })
  return texts
}

interface Parts {
  staging: string
  names: string[]
  rows: number
  keyless: number
  doubled: Compared['doubled']
  fresh: number
  /** Every field is sent, whatever is known to be there. */
  whole: boolean
  closed(): Promise<void>
}

class OpenCompared implements Compared {
  readonly rows: number
  readonly keyless: number
  readonly doubled: Compared['doubled']
  readonly fresh: number
  private readonly connection: DuckdbConnection
  private readonly parts: Parts
  private isMet = false

  constructor(connection: DuckdbConnection, parts: Parts) {
    this.connection = connection
    this.parts = parts
    const { rows, keyless, doubled, fresh } = parts
    this.rows = rows
    this.keyless = keyless
    this.doubled = doubled
    this.fresh = fresh
  }

  async meet(lines: AsyncIterable<Uint8Array>): Promise<{ none: number; one: number; several: number }> {
    const { connection } = this
    const { staging, names } = this.parts
    const columns = Object.fromEntries(['id', ...names].map(name => [name, 'VARCHAR']))
    await stage(connection, { staging, table: 'there', columns }, lines)
    await connection.run('CREATE OR REPLACE TEMP TABLE met(key VARCHAR, id VARCHAR, hits INT)')
    // The next match key is asked only for what none before it has found.
    for (const name of names)
      await connection.run(`
        INSERT INTO met
        SELECT d.key, min(t.id), count(DISTINCT t.id) FROM difference d JOIN there t ON d.${name} = t.${name}
        WHERE d.kind = 'new' AND d.key NOT IN (SELECT key FROM met) GROUP BY d.key`)
    this.isMet = true
    const [[one, several]] = (await connection.ask(
      'SELECT count(*) FILTER (hits = 1)::INT, count(*) FILTER (hits > 1)::INT FROM met',
    )) as [[number, number]]
    return { none: this.fresh - one - several, one, several }
  }

  async decide(definition: Pick<SendDefinition, 'may' | 'several'>): Promise<SendCounts> {
    const { connection, isMet } = this
    const when = (may: boolean, op: string) => (may ? `'${op}'` : `'left'`)
    const [create, change] = [when(mayCreate(definition), 'create'), when(mayChange(definition), 'change')]
    const several = definition.several === 'first' ? change : `'held'`
    const hits = isMet ? 'coalesce(m.hits, 0)' : '0'
    await connection.run(`
      CREATE OR REPLACE TEMP TABLE decided AS
      SELECT d.d, d.n, d.key, ${isMet ? 'coalesce(d.id, m.id)' : 'd.id'} AS id, d.kind,
        d.field AS field,
        CASE
          WHEN d.kind = 'bad' THEN d.reason
          WHEN d.kind = 'new' AND ${hits} > 1 ${definition.several === 'first' ? 'AND false' : ''} THEN 'It meets ' || ${hits} || ' records.'
          WHEN d.kind = 'new' AND ${hits} = 0 AND ${create} = 'left' THEN 'No record meets it, and none may be created.'
          WHEN d.kind IN ('new', 'changed') AND ${change} = 'left' AND (d.kind = 'changed' OR ${hits} > 0) THEN 'It is there already, and may not be changed.'
        END AS reason,
        coalesce(d.remedy, CASE WHEN ${hits} > 1 THEN 'Let it meet by a field that is unique, or take the first.' END) AS remedy,
        CASE
          WHEN d.kind = 'gone' THEN ${when(mayRemove(definition), 'remove')}
          WHEN d.kind = 'bad' THEN 'held'
          WHEN d.kind = 'changed' THEN ${change}
          WHEN ${hits} = 0 THEN ${create}
          WHEN ${hits} = 1 THEN ${change}
          ELSE ${several}
        END AS op
      FROM difference d ${isMet ? 'LEFT JOIN met m USING (key)' : ''}`)
    // What stays in the app though it has gone here is no news.
    await connection.run(`DELETE FROM decided WHERE kind = 'gone' AND op = 'left'`)
    // Two rows are never one record.
    await connection.run(`
      UPDATE decided SET op = 'held', reason = 'Another row meets the same record, ' || id || '.',
        remedy = 'Let rows meet by a field that is unique, or correct one of the two.'
      WHERE op = 'change' AND kind = 'new' AND id IN (
        SELECT id FROM (
          SELECT id, key FROM decided WHERE op = 'change'
          UNION
          SELECT id, key FROM sent WHERE id IN (SELECT id FROM decided WHERE op = 'change' AND kind = 'new'))
        GROUP BY id HAVING count(DISTINCT key) > 1)`)
    // What the app has refused is not asked of it again before it changes.
    await connection.run(`
      UPDATE decided SET op = 'held', field = f.field, reason = f.reason, remedy = f.remedy
      FROM (${saidOf('refused', 'field, reason, remedy')}) f
      WHERE decided.d = f.d AND decided.op IN ('create', 'change')`)
    await connection.run(`
      UPDATE decided SET op = 'left', field = NULL, reason = 'Left out by hand: ' || h.note, remedy = 'It is taken again once it says something else at the source.'
      FROM (${saidOf('by_hand', 'note', 'WHERE vals IS NULL')}) h WHERE decided.d = h.d`)
    await connection.run(`
      CREATE OR REPLACE TEMP TABLE operation AS
      SELECT (row_number() OVER (ORDER BY CASE op WHEN 'remove' THEN 0 WHEN 'create' THEN 1 ELSE 2 END, n, key))::INT AS number, *
      FROM decided WHERE op IN ('create', 'change', 'remove')`)
    const counted = new Map(
      (await connection.ask('SELECT op, count(*)::INT FROM decided GROUP BY op')).map(([op, rows]) => [
        op,
        rows as number,
      ]),
    )
    const of = (op: string) => counted.get(op) ?? 0
    const [[gone]] = (await connection.ask(`SELECT count(*)::INT FROM decided WHERE kind = 'gone'`)) as [
      [number],
    ]
    const decided = [...counted.values()].reduce((sum, rows) => sum + rows, 0) - gone
    return {
      create: of('create'),
      change: of('change'),
      remove: of('remove'),
      held: of('held') + this.keyless,
      left: of('left'),
      unchanged: this.rows - this.keyless - decided,
    }
  }

  async operations(after: number, limit: number): Promise<{ n: number; operation: SentOperation }[]> {
    const rows = await this.connection.ask(
      `SELECT number, op, key, id, d FROM operation WHERE number > ${Math.trunc(after)} ORDER BY number LIMIT ${Math.trunc(limit)}`,
    )
    const texts = await textsOf(
      this.connection,
      rows.map(row => row[4] as number),
      rows.every(([, op]) => op === 'create'),
    )
    return rows.map(([n, op, key, id, d]) => {
      const { vals, firsts, was } = texts.get(d as number)!
      const before = was === null ? null : valuesOf(was!)
      const now = vals === null ? {} : written(encodedOf(vals!))
      const first = firsts === null ? {} : written(encodedOf(firsts!))
      // A record that is met, and was never sent, gets all that is not for new ones alone.
      const values =
        op === 'create'
          ? { ...now, ...first }
          : op === 'change' && before && !this.parts.whole
            ? changedOf(before, now)
            : now
      return {
        n: n as number,
        operation: {
          op: op as SentOperation['op'],
          key: keyOf(key!),
          id: id as string | null,
          values: op === 'remove' ? (before ?? {}) : Object.keys(values).length > 0 ? values : now,
          becomes: { ...before, ...now },
          was: before,
          told: vals as string | null,
        },
      }
    })
  }

  async look(each: number, find: string): Promise<SendRow[]> {
    const rows = await this.connection.ask(
      `SELECT op, key, id, d, field, reason, remedy FROM decided
       WHERE $1 = '' OR contains(lower(concat_ws(' ', key, id, reason)), lower($1))
         OR d IN (SELECT d FROM now WHERE contains(lower(vals), lower($1)))
         OR d IN (SELECT d FROM had WHERE contains(lower(was), lower($1)))
       QUALIFY row_number() OVER (PARTITION BY op ORDER BY n, key) <= ${Math.trunc(each)}
       ORDER BY op, n, key`,
      [find],
    )
    const texts = await textsOf(
      this.connection,
      rows.map(row => row[3] as number),
    )
    return rows.map(([op, key, id, d, field, reason, remedy]) => {
      const { vals, firsts, was } = texts.get(d as number)!
      const before = was === null ? null : valuesOf(was!)
      const first = op === 'create' && firsts !== null ? written(encodedOf(firsts!)) : {}
      return {
        op: op as SendRow['op'],
        key: keyOf(key!),
        id: id as string | null,
        was: before,
        values:
          op === 'remove' || vals === null ? null : { ...before, ...written(encodedOf(vals!)), ...first },
        field: field as string | null,
        reason: reason as string | null,
        remedy: remedy as string | null,
      }
    })
  }

  async reasons(): Promise<{ field: string | null; reason: string; remedy: string; rows: number }[]> {
    // Rows of one reason say other values.
    const rows = await this.connection.ask(
      `SELECT field, any_value(reason), any_value(remedy), count(*)::INT FROM decided WHERE op IN ('held', 'left')
       GROUP BY field, regexp_replace(reason, '“[^”]*”|[0-9]+', '…', 'g') ORDER BY 4 DESC LIMIT 50`,
    )
    return rows.map(([field, reason, remedy, count]) => ({
      field: field as string | null,
      reason: String(reason ?? ''),
      remedy: String(remedy ?? ''),
      rows: count as number,
    }))
  }

  close(): Promise<void> {
    return this.parts.closed()
  }
}

/** What is known of rows (`table`) that say now what they said then: by the number of the difference. */
function saidOf(table: string, columns: string, where = ''): string {
  return `SELECT x.d, f.* EXCLUDE (key, says)
    FROM (SELECT key, ${columns}, ${says('told')} FROM ${table} ${where}) f
    JOIN difference x USING (key)
    JOIN (SELECT d, ${says('vals')} FROM now) n ON n.d = x.d AND n.says = f.says`
}

export function keyOf(text: HostValue): string[] {
  return JSON.parse(String(text)) as string[]
}

function encodedOf(text: HostValue): Encoded {
  return JSON.parse(String(text)) as Encoded
}

/** As they are kept: no field is undecided there. */
export function valuesOf(text: HostValue): Record<string, string | null> {
  return JSON.parse(String(text)) as Record<string, string | null>
}
