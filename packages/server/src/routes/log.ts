import type Router from '@koa/router'
import type { Services } from '../services.ts'
import { valid } from '../validate.ts'

const LOG_PAGE = 100

const logSchema = {
  type: 'object',
  properties: {
    before: { type: 'integer', title: 'before', minimum: 1, maximum: Number.MAX_SAFE_INTEGER },
  },
}

export function logRoutes(router: Router, { store }: Services): void {
  router.get('/log', async ctx => {
    const { pipeline } = ctx.query
    const { before } = valid<{ before?: number }>(logSchema, { before: numberOf(ctx.query.before) }, 'Log')
    ctx.body = await store.history.lines({
      ...(typeof pipeline === 'string' ? { pipeline } : {}),
      ...(before === undefined ? {} : { before }),
      limit: LOG_PAGE,
    })
  })
}

const numberOf = (text: string | string[] | undefined) => (text === undefined ? undefined : Number(text))
