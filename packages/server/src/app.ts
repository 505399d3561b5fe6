/** The JSON API, thin over engine and store. What it composes is handed in. */
import { bodyParser } from '@koa/bodyparser'
import Router from '@koa/router'
import { Failure } from '@tide/core/failure'
import type { Problem } from '@tide/core/api/types'
import Koa from 'koa'
import type { Services } from './services.ts'
import { connectionRoutes } from './routes/connections.ts'
import { eventRoutes } from './routes/events.ts'
import { pipelineRoutes } from './routes/pipelines.ts'
import { queryRoutes } from './routes/query.ts'
import { serveWeb } from './web.ts'

const STATUS = { refused: 422, value: 422, structural: 409, transient: 503, fault: 500 } as const

/** What a loopback server may be called in an address. */
const LOOPBACK_NAMES = new Set(['127.0.0.1', 'localhost', '[::1]', '::1'])

export function createApp(services: Services): Koa {
  const app = new Koa()
  app.silent = true
  app.use(async (ctx, next) => {
    try {
      await next()
      if (ctx.status === 404 && ctx.path.startsWith('/api/') && !ctx.body) {
        problem(ctx, 404, {
          title: 'Not found',
          detail: `There is nothing at ${ctx.path}.`,
          remedy: 'Check the address.',
        })
      }
    } catch (error) {
      const failure = error instanceof Failure ? error : undefined
      const status = failure ? STATUS[failure.kind] : ((error as { status?: number }).status ?? 500)
      if (status === 500) services.warn(error as Error)
      problem(ctx, status, {
        title:
          status === 500
            ? 'An error of ours'
            : failure
              ? 'It could not be done'
              : 'The request was not understood',
        detail: (error as Error).message,
        remedy:
          failure?.remedy ??
          (status === 500 ? 'Look into the log of the server; please report it.' : 'Check the request.'),
      })
    }
  })
  // A foreign name that was made to point here must not lend a page our origin.
  app.use(async (ctx, next) => {
    if (!LOOPBACK_NAMES.has(ctx.hostname)) {
      throw new Failure('refused', `The name ${ctx.hostname} is not served.`, 'Use 127.0.0.1 or localhost.')
    }
    await next()
  })
  // Only pages served from here may write: a foreign page would need JSON, which browsers ask about first.
  app.use(async (ctx, next) => {
    if (ctx.method !== 'GET' && ctx.method !== 'HEAD' && ctx.length && !ctx.is('json')) {
      throw new Failure('refused', 'Bodies must be JSON.', 'Send Content-Type: application/json.')
    }
    const origin = ctx.get('Origin')
    if (ctx.method !== 'GET' && ctx.method !== 'HEAD' && origin && hostOf(origin) !== ctx.host) {
      throw new Failure('refused', `Requests from ${origin} are not taken.`, 'Use the pages of this server.')
    }
    await next()
  })
  // What cannot be unpacked or read is the sender's fault, whatever it throws.
  const onError = (error: Error & { status?: number }, ctx: Koa.Context) =>
    ctx.throw(error.status ?? 400, error.message)
  app.use(bodyParser({ enableTypes: ['json'], jsonLimit: '4mb', onError }))
  // No database takes it in a text.
  app.use(async (ctx, next) => {
    if (ctx.url.includes('%00') || holdsNul(ctx.request.body)) {
      throw new Failure('refused', 'The request holds a NUL character.', 'Leave it out.')
    }
    await next()
  })
  const router = new Router({ prefix: '/api' })
  connectionRoutes(router, services)
  pipelineRoutes(router, services)
  queryRoutes(router, services)
  eventRoutes(router, services)
  app.use(router.routes())
  app.use(serveWeb)
  return app
}

function holdsNul(value: unknown): boolean {
  if (typeof value === 'string') return value.includes('\0')
  return value !== null && typeof value === 'object' && Object.entries(value).flat().some(holdsNul)
}

/** Pages without an address of their own say `null`. */
const hostOf = (origin: string) => (URL.canParse(origin) ? new URL(origin).host : undefined)

function problem(ctx: Koa.Context, status: number, body: Pick<Problem, 'title' | 'detail' | 'remedy'>): void {
  ctx.status = status
  ctx.body = { type: 'about:blank', status, ...body } satisfies Problem
  ctx.type = 'application/problem+json'
}
