/** Questions of people to a PostgreSQL server: over a connection of their own, which can only read, and within limits. */
import type { Grid } from '@tide/core/api/browse'
import type { Key, Row } from '@tide/core/records/value'
import type { OrderedTable, ScannedTable } from '../../contract/records.ts'
import { Failure } from '@tide/core/failure'
import pg, { type FieldDef, type QueryConfig } from 'pg'
import type { Duplex } from 'node:stream'
import type { QueryLimits, RowBatch, StreamLimits } from '../../contract/session.ts'
import { readingAccount, serverAddress } from '../../server-settings.ts'
import { Answer } from '../../question/answer.ts'
import { QuestionLink, type LinkLimits } from '../../question/link.ts'
import { misunderstood, severalStatements, tooLong } from '../../question/refusal.ts'
import { tableName } from '../catalogue.ts'
import { PIN } from '../copy.ts'
import { copyOut } from '../copy-out.ts'
import { onlyThese, prefiltered } from '../prefilter.ts'
import type { PostgresConfig } from '../config.ts'
import { postgresFailure } from '../errors.ts'
import { clientConfig } from '../pool.ts'
import { questionIn } from './allowed.ts'
import { ident, literal } from '../text.ts'
import { parse } from './parse.ts'

const QUERY_CANCELED = '57014'

/** The statement of a person; refused by name when it is not known to be a question. */
export async function ask(config: PostgresConfig, sql: string, limits: QueryLimits): Promise<Grid> {
  if (sql.trim() === '') throw severalStatements(0)
  const { by } = questionIn(await parse(sql))
  const plain = withoutEnd(sql)
  return answered(config, limits, by === 'cursor' ? plain : undefined, plain)
}

/** A statement of ours, within the same limits. */
export function look(config: PostgresConfig, sql: string, limits: QueryLimits): Promise<Grid> {
  return answered(config, limits, sql, sql)
}

/** The semicolon and the comments behind it, which a cursor's declaration must not have; those within do no harm. */
const withoutEnd = (sql: string) => sql.replace(/[\s;]+$/, '')

async function answered(
  config: PostgresConfig,
  limits: QueryLimits,
  cursor: string | undefined,
  plain: string,
): Promise<Grid> {
  const { client, link, where } = await connected(readingAccount(config), limits)
  const answer = new Answer(limits)
  let fields: FieldDef[] = []
  const take = (text: string) => rowsOf(client, text, answer, found => (fields = found))
  try {
    await begin(client, limits.timeoutMs)
    if (cursor === undefined) await take(plain)
    else {
      await declare(client, cursor)
      await take(`FETCH ${limits.maxRows + 1} FROM tide`)
    }
    return answer.grid(await named(client, fields))
  } catch (error) {
    if (link.failure) throw link.failure
    if (link.over) {
      answer.cutAtBytes()
      return answer.grid(fields.map(({ name }) => ({ name, type: '' })))
    }
    throw refusalOf(error, limits, where)
  } finally {
    link.close()
  }
}

/** The rows of a person's statement, batch by batch. */
export async function* askForRows(
  config: PostgresConfig,
  sql: string,
  limits: StreamLimits,
): AsyncGenerator<RowBatch> {
  if (sql.trim() === '') throw severalStatements(0)
  const { by } = questionIn(await parse(sql))
  yield* lookForRows(readingAccount(config), sql, by, limits)
}

/** The rows of a table as they are copied, by the account that copies them. */
export async function* scan(
  config: PostgresConfig,
  { dataset, columns, where }: ScannedTable,
  isPartitioned: boolean,
  limits: StreamLimits,
): AsyncGenerator<Row[]> {
  const list = columns.map(({ name }) => ident(name)).join(', ')
  // What other tables inherit is theirs; what partitions hold is the table's own.
  const from = `${isPartitioned ? '' : 'ONLY '}${tableName(dataset)}`
  const sql = `SELECT ${list} FROM ${from}${prefiltered(where, columns, ' WHERE ')}`
  for await (const { rows } of lookForRows(config, sql, 'cursor', limits, PIN)) yield rows
}

/** All rows of a table in the order of their keys, as CSV, by the account that copies them. */
export async function* ordered(
  config: PostgresConfig,
  { dataset, columns, key, order, quoted, where, only, after, upTo, most }: OrderedTable,
  isPartitioned: boolean,
  limits: LinkLimits,
): AsyncGenerator<Uint8Array> {
  const list = columns.map(({ name }, i) => `t.${ident(name)} AS c${i}`).join(', ')
  const parts = key.map((name, i) => {
    const { nativeType } = columns.find(column => column.name === name)!
    // The order of these is that of their text, and an index has it.
    const isText = order[i] === 'text' && nativeType !== 'uuid'
    return { by: `t.${ident(name)}${isText ? '::text COLLATE "C"' : ''}`, as: isText ? 'text' : nativeType }
  })
  const by = parts.map(part => part.by).join(', ')
  const bound = (end: Key) => `(${parts.map(({ as }, i) => `${literal(end[i]!)}::${as}`).join(', ')})`
  const within = `${after ? ` AND (${by}) > ${bound(after)}` : ''}${upTo ? ` AND (${by}) <= ${bound(upTo)}` : ''}`
  const limit = most === undefined ? '' : ` LIMIT ${most}`
  const from = `${isPartitioned ? '' : 'ONLY '}${tableName(dataset)} t`
  const rows = `SELECT ${list} FROM ${from} WHERE ${onlyThese(only)}${prefiltered(where, columns, ' AND ')}${within} ORDER BY ${by}${limit}`
  const inQuotes = columns.flatMap((_, i) => (quoted[i] ? [`c${i}`] : [])).join(', ')
  const force = inQuotes === '' ? '' : `, FORCE_QUOTE (${inQuotes})`
  const { client, link, where: at } = await connected(config, limits)
  try {
    await begin(client, limits.timeoutMs)
    await client.query(PIN)
    yield* copyOut(client, `COPY (${rows}) TO STDOUT (FORMAT csv${force})`)
  } catch (error) {
    throw link.failure ?? refusalOf(error, limits, at)
  } finally {
    link.close()
  }
}

/** `pin`: what makes the session write values in one way. */
async function* lookForRows(
  config: PostgresConfig,
  sql: string,
  by: 'cursor' | 'itself',
  limits: StreamLimits,
  pin = '',
): AsyncGenerator<RowBatch> {
  const { client, link, where } = await connected(config, limits)
  const read = (text: string) => client.query<(string | null)[]>({ text, rowMode: 'array' })
  try {
    await begin(client, limits.timeoutMs)
    if (pin !== '') await client.query(pin)
    const plain = withoutEnd(sql)
    if (by === 'cursor') await declare(client, plain)
    let columns: Grid['columns'] | undefined
    for (;;) {
      const { rows, fields } = await read(by === 'cursor' ? `FETCH ${limits.batchRows} FROM tide` : plain)
      columns ??= await named(client, fields)
      yield { columns, rows }
      if (by !== 'cursor' || rows.length < limits.batchRows) return
    }
  } catch (error) {
    throw link.failure ?? refusalOf(error, limits, where)
  } finally {
    link.close()
  }
}

/** A connection of its own for one question, which ends with it. */
async function connected(settings: PostgresConfig, limits: LinkLimits) {
  const where = serverAddress(settings)
  const client = new pg.Client(clientConfig(settings))
  client.on('error', () => {}) // whoever waits hears of it
  try {
    await client.connect()
  } catch (error) {
    throw postgresFailure(error, where)
  }
  const { stream } = (client as unknown as { connection: { stream: Duplex } }).connection
  const { processID } = client as unknown as { processID: number }
  return { client, where, link: new QuestionLink(limits, stream, () => cancel(settings, processID)) }
}

async function begin(client: pg.Client, timeoutMs: number): Promise<void> {
  // A server looks whether anybody still waits; older ones and other systems cannot.
  await client.query(`SET client_connection_check_interval = '2s'`).catch(() => {})
  await client.query(
    `BEGIN READ ONLY; SET LOCAL standard_conforming_strings = on; SET LOCAL statement_timeout = ${Math.floor(timeoutMs)}`,
  )
}

/** By the extended protocol, which takes one statement at a time, whatever the parser has read. */
async function declare(client: pg.Client, sql: string): Promise<void> {
  const text = `DECLARE tide NO SCROLL CURSOR FOR ${sql}`
  await client.query({ text, queryMode: 'extended' } as QueryConfig)
}

function refusalOf(error: unknown, limits: LinkLimits, where: string): unknown {
  if (error instanceof Failure) return error
  const { code, message, severity } = error as { code?: string; message: string; severity?: string }
  if (code === QUERY_CANCELED) return tooLong(limits)
  return severity === undefined ? postgresFailure(error, where) : misunderstood(message)
}

/** Rows as they come, so that those in front of one that is too large are there. */
function rowsOf(
  client: pg.Client,
  text: string,
  answer: Answer,
  describe: (fields: FieldDef[]) => void,
): Promise<void> {
  const query = client.query(new pg.Query({ text, rowMode: 'array' } as never))
  return new Promise((resolve, reject) => {
    let failed: unknown
    query.on('row', (row, result) => {
      if (result) describe(result.fields)
      try {
        answer.add(row as (string | null)[])
      } catch (error) {
        failed ??= error
      }
    })
    query.on('end', result => {
      describe(result.fields)
      if (failed) reject(failed as Error)
      else resolve()
    })
    query.on('error', reject)
    client.once('end', () => reject(new Error('the connection was closed')))
  })
}

/** Columns with the names of their types. */
async function named(client: pg.Client, fields: readonly FieldDef[]): Promise<Grid['columns']> {
  const types = await client.query(
    `SELECT oid::text, pg_catalog.format_type(oid, NULL) AS name FROM pg_catalog.pg_type WHERE oid = ANY ($1::oid[])`,
    [`{${fields.map(field => field.dataTypeID).join(',')}}`],
  )
  const nameOf = new Map(types.rows.map(row => [Number(row.oid), row.name as string]))
  return fields.map(field => ({ name: field.name, type: nameOf.get(field.dataTypeID) ?? '' }))
}

/** Ends at the server what that connection runs. */
async function cancel(config: PostgresConfig, processId: number): Promise<void> {
  const client = new pg.Client(clientConfig(config))
  client.on('error', () => {})
  await client.connect()
  try {
    await client.query('SELECT pg_catalog.pg_cancel_backend($1)', [processId])
  } finally {
    await client.end()
  }
}
