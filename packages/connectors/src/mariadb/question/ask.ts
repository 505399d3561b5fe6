/** Questions of people to a MariaDB server: over a connection of their own, which can only read, and within limits. */
import type { Grid } from '@tide/core/api/browse'
import type { Key, Row } from '@tide/core/records/value'
import { prefilterOf } from '@tide/core/scope/prefilter'
import type { OrderedTable, ScannedTable } from '../../contract/records.ts'
import { Failure } from '@tide/core/failure'
import type { QueryError } from 'mysql2'
import type { QueryLimits, RowBatch, StreamLimits } from '../../contract/session.ts'
import { Answer } from '../../question/answer.ts'
import { QuestionLink, type LinkLimits } from '../../question/link.ts'
import { misunderstood, tooLong } from '../../question/refusal.ts'
import { readingAccount, serverAddress } from '../../server-settings.ts'
import { Session, withSession } from '../client.ts'
import type { MariadbConfig } from '../config.ts'
import { mariadbFailure } from '../errors.ts'
import { canonicalRow } from '../log/view.ts'
import { csvOf, csvRow } from '../lines.ts'
import { onlyThese, PREFILTER } from '../prefilter.ts'
import { canonicalColumn, ident, keyLiteral, literal, tableName } from '../sql.ts'
import { refuseUnlessQuestion } from './allowed.ts'

const STATEMENT_TIMEOUT = 1969

/** The statement of a person; refused by name when it is not known to be a question. */
export async function ask(config: MariadbConfig, sql: string, limits: QueryLimits): Promise<Grid> {
  refuseUnlessQuestion(sql)
  return look(config, sql.replace(/[\s;]+$/, ''), limits)
}

/** A statement of ours, within the same limits. */
export async function look(config: MariadbConfig, sql: string, limits: QueryLimits): Promise<Grid> {
  const { session, link, where } = await connected(readingAccount(config), limits)
  const answer = new Answer(limits)
  let columns: Grid['columns'] = []
  try {
    await begin(session, limits.timeoutMs, `, sql_select_limit = ${limits.maxRows + 1}`)
    await session.eachRow(
      sql,
      found => (columns = found),
      row => {
        answer.add(row)
        return !answer.full
      },
    )
    return answer.grid(columns)
  } catch (error) {
    if (link.failure) throw link.failure
    if (link.over) {
      answer.cutAtBytes()
      return answer.grid(columns)
    }
    throw refusalOf(error, limits, where)
  } finally {
    link.close()
    session.destroy()
  }
}

/** The rows of a person's statement, batch by batch. */
export async function* askForRows(
  config: MariadbConfig,
  sql: string,
  limits: StreamLimits,
): AsyncGenerator<RowBatch> {
  refuseUnlessQuestion(sql)
  yield* lookForRows(readingAccount(config), sql.replace(/[\s;]+$/, ''), limits)
}

/** The rows of a table as they are copied, by the account that copies them. */
export async function* scan(
  config: MariadbConfig,
  { dataset, columns, where }: ScannedTable,
  limits: StreamLimits,
): AsyncGenerator<Row[]> {
  const list = columns.map(column => canonicalColumn(column.name, column.type, column.nativeType))
  const floats = columns.flatMap(({ type }, i) => (type.kind === 'float' && type.bits === 32 ? [i] : []))
  const prefilter = where && prefilterOf(where, columns, PREFILTER)
  const wanted = prefilter === undefined ? '' : ` WHERE ${prefilter}`
  const sql = `SELECT ${list.join(', ')} FROM ${tableName(dataset)}${wanted}`
  for await (const { rows } of lookForRows(config, sql, limits))
    yield rows.map(row => canonicalRow(row, floats))
}

/** All rows of a table in the order of their keys, as CSV, by the account that copies them. */
export async function* ordered(
  config: MariadbConfig,
  { dataset, columns, key, order, quoted, where, only, after, upTo, most }: OrderedTable,
  limits: LinkLimits,
): AsyncGenerator<Uint8Array> {
  const parts = key.map((name, i) => {
    const { type, nativeType } = columns.find(column => column.name === name)!
    return order[i] === 'text'
      ? {
          by: `CAST(${canonicalColumn(name, type, nativeType)} AS BINARY)`,
          bound: (value: string) => `CAST(${literal(value)} AS BINARY)`,
        }
      : { by: ident(name), bound: (value: string) => keyLiteral(value, type, nativeType) ?? 'NULL' }
  })
  const by = parts.map(part => part.by).join(', ')
  const bound = (end: Key) => `(${parts.map((part, i) => part.bound(end[i]!)).join(', ')})`
  const within = `${after ? ` AND (${by}) > ${bound(after)}` : ''}${upTo ? ` AND (${by}) <= ${bound(upTo)}` : ''}`
  const limit = most === undefined ? '' : ` LIMIT ${most}`
  const prefilter = where && prefilterOf(where, columns, PREFILTER)
  const wanted = prefilter === undefined ? '' : ` AND ${prefilter}`
  const sql = `SELECT ${csvRow(columns, quoted)} FROM ${tableName(dataset)} WHERE ${onlyThese(only)}${wanted}${within} ORDER BY ${by}${limit}`
  const { session, link, where: at, cancel } = await connected(config, limits)
  let ended = false
  try {
    await begin(session, limits.timeoutMs)
    yield* csvOf(session, sql, { dataset })
    ended = true
  } catch (error) {
    ended = true
    throw link.failure ?? refusalOf(error, limits, at)
  } finally {
    if (!ended) await cancel().catch(() => {})
    link.close()
    session.destroy()
  }
}

async function* lookForRows(
  config: MariadbConfig,
  sql: string,
  limits: StreamLimits,
): AsyncGenerator<RowBatch> {
  const { session, link, where, cancel } = await connected(config, limits)
  let ended = false
  try {
    await begin(session, limits.timeoutMs)
    let columns: Grid['columns'] = []
    let rows: Grid['rows'] = []
    const coming = session.stream(sql, found => (columns = found))
    for await (const row of coming) {
      rows.push(row)
      if (rows.length < limits.batchRows) continue
      yield { columns, rows }
      rows = []
    }
    ended = true
    yield { columns, rows }
  } catch (error) {
    ended = true
    throw link.failure ?? refusalOf(error, limits, where)
  } finally {
    // Who takes no more has no use for what the server goes on to find.
    if (!ended) await cancel().catch(() => {})
    link.close()
    session.destroy()
  }
}

/** A connection of its own for one question, which ends with it. */
async function connected(settings: MariadbConfig, limits: LinkLimits) {
  const where = serverAddress(settings)
  const session = await Session.open(settings, { database: settings.database }).catch(error => {
    throw mariadbFailure(error, where)
  })
  const { connection } = session
  const { stream } = connection as unknown as { stream: ConstructorParameters<typeof QuestionLink>[1] }
  const cancel = () => withSession(settings, other => other.run(`KILL QUERY ${connection.threadId}`))
  return { session, where, cancel, link: new QuestionLink(limits, stream, cancel) }
}

async function begin(session: Session, timeoutMs: number, more = ''): Promise<void> {
  await session.run('START TRANSACTION READ ONLY')
  await session.run(`SET SESSION max_statement_time = ${timeoutMs / 1000}${more}`)
}

function refusalOf(error: unknown, limits: LinkLimits, where: string): unknown {
  if (error instanceof Failure) return error
  const { errno, message, sqlState } = error as QueryError & { sqlState?: string }
  if (errno === STATEMENT_TIMEOUT) return tooLong(limits)
  return sqlState === undefined ? mariadbFailure(error, where) : misunderstood(message)
}
