/** The JSON API, thin over engine and store. What it composes is handed in. */
import Router from '@koa/router'
import { Failure } from '@tide/core/failure'
import type { Problem } from '@tide/core/api/problem'
import Koa from 'koa'
import { randomBytes } from 'node:crypto'
import { Foreign, headers, ownPagesOnly, plainBodyOnly, readBody } from './edge.ts'
import { refuseStrangeId } from './ids.ts'
import type { Services } from './services.ts'
import { aboutRoutes } from './routes/about.ts'
import { connectionRoutes } from './routes/connections.ts'
import { deedRoutes } from './routes/deeds.ts'
import { figureRoutes } from './routes/figures.ts'
import { logRoutes } from './routes/log.ts'
import { runRoutes } from './routes/runs.ts'
import { fetchedTextRoutes } from './routes/fetched-text.ts'
import { signingInRoutes } from './routes/signing-in.ts'
import { scheduleRoutes } from './routes/schedules.ts'
import { fileRoutes } from './routes/files.ts'
import { nameRoutes } from './routes/names.ts'
import { planRoutes } from './routes/plan.ts'
import { heldRoutes } from './routes/held.ts'
import { verificationRoutes } from './routes/verifications.ts'
import { rewindRoutes } from './routes/rewind.ts'
import { rehearsalRoutes } from './routes/rehearsal.ts'
import { eventRoutes } from './routes/events.ts'
import { pipelineRoutes } from './routes/pipelines.ts'
import { queryRoutes } from './routes/query.ts'
import { savedQueryRoutes } from './routes/saved-queries.ts'
import { sendRoutes } from './routes/sends.ts'
import { hookRoutes } from './routes/hooks.ts'
import { twoWayRoutes } from './routes/two-way.ts'
import { serveWeb } from './web.ts'

const STATUS = { refused: 422, value: 422, structural: 409, guard: 409, transient: 503 } as const

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
      tell(ctx, error, services)
    }
  })
  app.use(headers)
  app.use(ownPagesOnly)
  app.use(readBody)
  app.use(plainBodyOnly)
  const router = new Router({ prefix: '/api' })
  for (const name of ['id', 'ticket', 'verification', 'schedule']) {
    router.param(name, (id, _ctx, next) => {
      refuseStrangeId(id)
      return next()
    })
  }
  aboutRoutes(router, services)
  connectionRoutes(router, services)
  signingInRoutes(router, services)
  pipelineRoutes(router, services)
  deedRoutes(router, services)
  figureRoutes(router, services)
  planRoutes(router, services)
  nameRoutes(router, services)
  fileRoutes(router, services)
  rehearsalRoutes(router, services)
  rewindRoutes(router, services)
  heldRoutes(router, services)
  verificationRoutes(router, services)
  logRoutes(router, services)
  runRoutes(router, services)
  scheduleRoutes(router, services)
  fetchedTextRoutes(router)
  queryRoutes(router, services)
  savedQueryRoutes(router, services)
  sendRoutes(router, services)
  twoWayRoutes(router, services)
  hookRoutes(router, services)
  eventRoutes(router, services)
  app.use(router.routes())
  app.use(serveWeb)
  return app
}

function isLeft({ res }: Koa.Context): boolean {
  return res.destroyed && !res.writableFinished
}

function tell(ctx: Koa.Context, error: unknown, services: Services): void {
  if (error instanceof Failure && error.kind !== 'fault') {
    const { message: detail, remedy } = error
    const status = error instanceof Foreign ? 403 : STATUS[error.kind]
    return problem(ctx, status, { title: 'It could not be done', detail, remedy })
  }
  const { status = 500, message } = error as { status?: number; message: string }
  if (status < 500) {
    return problem(ctx, status, {
      title: 'The request was not understood',
      detail: message,
      remedy: 'Check the request.',
    })
  }
  // Nobody waits for the answer any more, and what it was about was given up.
  if (isLeft(ctx) && (error as Error).name === 'AbortError') return
  // What it says may hold SQL, paths or secrets; they are for those who may read the log.
  const number = randomBytes(4).toString('hex')
  services.warn(error as Error, number)
  problem(ctx, 500, {
    title: 'An error of ours',
    detail: `Something went wrong here that should not have; the server’s log has it under ${number}.`,
    remedy: `Look there for ${number}; please report it.`,
  })
}

function problem(ctx: Koa.Context, status: number, body: Pick<Problem, 'title' | 'detail' | 'remedy'>): void {
  ctx.status = status
  ctx.body = { type: 'about:blank', status, ...body } satisfies Problem
  ctx.type = 'application/problem+json'
}
