import type Router from '@koa/router'
import type { Session } from '@tide/connectors/contract/session'
import { parameterSchema, withParameters, type QueryParameter } from '@tide/core/definition/query-parameters'
import { asFailure, Failure } from '@tide/core/failure'
import type Koa from 'koa'
import { once } from 'node:events'
import { PassThrough } from 'node:stream'
import { idSchema } from '../ids.ts'
import { pipelineRecord } from '../pipeline-record.ts'
import type { Services } from '../services.ts'
import { together } from '../together.ts'
import { valid } from '../validate.ts'

const MAX_ROWS = 1_000
const TIMEOUT_MS = 20_000
const STREAM_BATCH = 1_000
const STREAM_MS = 3_600_000

/** Whatever still lives at the source is brought first. */
const TOGETHER_MS = 300_000

const statement = {
  sql: { type: 'string', title: 'SQL', minLength: 1, maxLength: 100_000 },
  ticket: idSchema,
}

const querySchema = {
  type: 'object',
  required: ['connection', 'sql'],
  additionalProperties: false,
  properties: {
    connection: idSchema,
    ...statement,
    parameters: { type: 'array', title: 'Parameters', maxItems: 50, items: parameterSchema, default: [] },
    values: { type: 'object', additionalProperties: { type: 'string', maxLength: 10_000 }, default: {} },
  },
}

const togetherSchema = {
  type: 'object',
  required: ['sql'],
  additionalProperties: false,
  properties: statement,
}

interface Question {
  sql: string
  parameters: QueryParameter[]
  values: Record<string, string>
}

interface Asked extends Question {
  connection: string
  ticket?: string
}

/** What has no parameters is asked as it stands, whatever is in braces. */
function filledIn(
  { sql, parameters, values }: Question,
  { quoting = 'plain' }: Pick<Session, 'quoting'>,
): string {
  return parameters.length === 0 ? sql : withParameters(sql, parameters, values, quoting)
}

export function queryRoutes(router: Router, services: Services): void {
  const { sessions, questions, store, connector } = services
  const asked = (ctx: Koa.Context) => valid<Asked>(querySchema, ctx.request.body, 'Query')
  const lineOf = async (connection: string): Promise<{ atOnce: number }> => {
    const record = await store.connections.get(connection)
    if (record) return { atOnce: connector(record.kind).questionsAtOnce }
    throw new Failure(
      'refused',
      `There is no connection ${connection}.`,
      'Choose one of those that are there.',
    )
  }

  router.post('/query', async ctx => {
    const { connection, ticket, ...question } = asked(ctx)
    const { atOnce } = await lineOf(connection)
    const line = {
      line: connection,
      atOnce,
      ticket,
      maxRows: MAX_ROWS,
      timeoutMs: TIMEOUT_MS,
      signal: leaving(ctx),
    }
    ctx.body = await questions.ask(line, limits =>
      sessions.use(connection, session => {
        if (!session.query) throw noSql()
        return session.query(filledIn(question, session), limits)
      }),
    )
  })

  /** What an archive and its source hold, asked about as one table. */
  router.post('/pipelines/:id/lanes/:lane/together', async ctx => {
    const { sql, ticket } = valid<{ sql: string; ticket?: string }>(togetherSchema, ctx.request.body, 'Query')
    const record = await pipelineRecord(services, ctx.params.id!)
    const { to } = record.definition
    const { atOnce } = await lineOf(to)
    const line = { line: to, atOnce, ticket, maxRows: MAX_ROWS, timeoutMs: TOGETHER_MS, signal: leaving(ctx) }
    ctx.body = await questions.ask(line, limits =>
      together(services, record, Number(ctx.params.lane), sql, limits),
    )
  })

  /**
   * The rows as JSON Lines while they come: the columns first, then a row on each line; a last one with a `problem` when it
   * cannot go on. https://jsonlines.org
   */
  router.post('/query/rows', async ctx => {
    const { connection, ticket, ...question } = asked(ctx)
    const { atOnce } = await lineOf(connection)
    const out = new PassThrough()
    const signal = leaving(ctx)
    const line = { line: connection, atOnce, ticket, maxRows: STREAM_BATCH, timeoutMs: STREAM_MS, signal }
    await new Promise<void>((begun, refused) => {
      const streaming = questions.ask(line, ({ signal }) =>
        sessions.use(connection, async session => {
          if (!session.stream) throw noSql()
          const limits = { batchRows: STREAM_BATCH, timeoutMs: STREAM_MS, signal }
          let first = true
          for await (const { columns, rows } of session.stream(filledIn(question, session), limits)) {
            const lines = [...(first ? [{ columns }] : []), ...rows].map(one => `${JSON.stringify(one)}\n`)
            first = false
            begun()
            if (!out.write(lines.join(''))) await once(out, 'drain', { signal })
          }
        }),
      )
      streaming.then(
        () => out.end(),
        error => {
          // Where rows are on their way already, the last line says it.
          refused(error as Error)
          const { message: detail, remedy } = asFailure(error)
          out.end(`${JSON.stringify({ problem: { detail, remedy } })}\n`)
        },
      )
    })
    ctx.type = 'application/jsonl'
    ctx.body = out
  })

  /** Where a query stands that was sent with this ticket. */
  router.get('/query/:ticket', ctx => {
    const turn = questions.turn(ctx.params.ticket!)
    if (turn) ctx.body = turn
  })
}

function noSql(): Failure {
  return new Failure(
    'refused',
    'SQL does not run on this connection.',
    'Choose a warehouse, or look at a table’s rows.',
  )
}

/** Aborts when the one who asks goes away before the answer. */
export function leaving(ctx: Koa.Context): AbortSignal {
  const gone = new AbortController()
  ctx.res.once('close', () => ctx.res.writableFinished || gone.abort())
  return gone.signal
}
