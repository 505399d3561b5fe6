import type Router from '@koa/router'
import { Failure } from '@tide/core/failure'
import type Koa from 'koa'
import { idSchema } from '../ids.ts'
import type { Services } from '../services.ts'
import { valid } from '../validate.ts'

const MAX_ROWS = 1_000
const TIMEOUT_MS = 20_000

const querySchema = {
  type: 'object',
  required: ['connection', 'sql'],
  additionalProperties: false,
  properties: {
    connection: idSchema,
    sql: { type: 'string', title: 'SQL', minLength: 1, maxLength: 100_000 },
    ticket: idSchema,
  },
}

export function queryRoutes(router: Router, { sessions, questions, store, connector }: Services): void {
  router.post('/query', async ctx => {
    const { connection, sql, ticket } = valid<{ connection: string; sql: string; ticket?: string }>(
      querySchema,
      ctx.request.body,
      'Query',
    )
    const record = await store.connections.get(connection)
    if (!record)
      throw new Failure(
        'refused',
        `There is no connection ${connection}.`,
        'Choose one of those that are there.',
      )
    const atOnce = connector(record.kind).questionsAtOnce
    const asked = {
      line: connection,
      atOnce,
      ticket,
      maxRows: MAX_ROWS,
      timeoutMs: TIMEOUT_MS,
      signal: leaving(ctx),
    }
    ctx.body = await questions.ask(asked, limits =>
      sessions.use(connection, session => {
        if (!session.query) {
          throw new Failure(
            'refused',
            'SQL does not run on this connection.',
            'Choose a warehouse, or look at a table’s rows.',
          )
        }
        return session.query(sql, limits)
      }),
    )
  })

  /** Where a query stands that was sent with this ticket. */
  router.get('/query/:ticket', ctx => {
    const place = questions.place(ctx.params.ticket!)
    if (place) ctx.body = place
  })
}

/** Aborts when the one who asks goes away before the answer. */
export function leaving(ctx: Koa.Context): AbortSignal {
  const gone = new AbortController()
  ctx.res.once('close', () => ctx.res.writableFinished || gone.abort())
  return gone.signal
}
