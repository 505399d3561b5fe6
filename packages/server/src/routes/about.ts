/** The process itself, and those that share its store. */
import type Router from '@koa/router'
import { gathersSeconds } from '@tide/core/definition/files'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { Services } from '../services.ts'

const UNWELL_LAG_S = 60

export function aboutRoutes(router: Router, services: Services): void {
  const { engine } = services

  router.get('/health', async ctx => {
    const statuses = await engine.statuses()
    ctx.body = {
      status: statuses.some(isUnwell) ? 'degraded' : 'ok',
      version: services.version,
      pipelines: statuses.map(({ id, definition, state, lagSeconds }) => ({
        id,
        name: definition.name,
        state,
        lagSeconds,
      })),
    }
  })

  router.get('/about', ctx => {
    ctx.body = { version: services.version, dataFolder: services.dataFolder, processId: process.pid }
  })

  router.get('/engines', async ctx => {
    ctx.body = await engine.engines()
  })
}

/** Stopped for a reason, trying again, or so far behind, or so long not heard of, that somebody should look. */
function isUnwell({ state, reason, retry, lagSeconds, definition }: PipelineStatus): boolean {
  if (state === 'Stopped') return reason?.kind !== 'person'
  const most = UNWELL_LAG_S + gathersSeconds(definition)
  return retry !== null || (state === 'Following' && (lagSeconds === null || lagSeconds > most))
}
