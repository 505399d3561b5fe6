import type Router from '@koa/router'
import { Failure } from '@tide/core/failure'
import type { Services } from '../services.ts'
import { valid } from '../validate.ts'

const MAX_ROWS = 1_000
const TIMEOUT_MS = 20_000

const querySchema = {
  type: 'object',
  required: ['connection', 'sql'],
  additionalProperties: false,
  properties: {
    connection: { type: 'string' },
    sql: { type: 'string', title: 'SQL', minLength: 1, maxLength: 100_000 },
  },
}

export function queryRoutes(router: Router, { sessions }: Services): void {
  router.post('/query', async ctx => {
    const { connection, sql } = valid<{ connection: string; sql: string }>(
      querySchema,
      ctx.request.body,
      'Query',
    )
    ctx.body = await sessions.use(connection, session => {
      if (!session.query) {
        throw new Failure(
          'refused',
          'SQL does not run on this connection.',
          'Choose a warehouse, or look at a table’s rows.',
        )
      }
      return session.query(sql, { maxRows: MAX_ROWS, timeoutMs: TIMEOUT_MS })
    })
  })
}
