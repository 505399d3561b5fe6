/** Readings of a pipeline, and single records of its lanes on both sides. */
import type Router from '@koa/router'
import { samplesTogether } from '@tide/core/api/together'
import { runsOf } from '@tide/core/definition/pipeline'
import { pipelineRecord } from '../pipeline-record.ts'
import { rowPair } from '../row-pair.ts'
import { rowTrail } from '../row-trail.ts'
import type { Services } from '../services.ts'
import { valid } from '../validate.ts'

/** Seconds back for which each second's readings are kept. */
const RESOLUTION_1S_UP_TO = 2 * 3600

const keySchema = { type: 'array', items: { type: 'string' } }

export function figureRoutes(router: Router, services: Services): void {
  const { store } = services

  /** Readings of the last so many `seconds`, or of as many that ended so many seconds `before`. */
  router.get('/pipelines/:id/figures', async ctx => {
    const seconds = Math.min(40 * 86_400, Math.max(60, Number(ctx.query.seconds) || 300))
    const before = Math.min(40 * 86_400, Math.max(0, Number(ctx.query.before) || 0))
    const resolution = before + seconds <= RESOLUTION_1S_UP_TO ? 1 : 60
    const until = Date.now() - before * 1000
    const since = until - seconds * 1000
    const record = await pipelineRecord(services, ctx.params.id!)
    const series = await Promise.all(
      runsOf(record).map(({ id }) =>
        store.history.figures(id, resolution, since, before > 0 ? until : Infinity),
      ),
    )
    ctx.body = series.length === 1 ? series[0] : samplesTogether(series, resolution * 1000)
  })

  /** `key`: a JSON array of texts; without it, the last row in key order. */
  router.get('/pipelines/:id/lanes/:lane/row', async ctx => {
    const { key: text } = ctx.query
    const key = text === undefined ? null : valid<string[]>(keySchema, jsonOf(String(text)), 'Key')
    ctx.body = await rowPair(
      services,
      await pipelineRecord(services, ctx.params.id!),
      Number(ctx.params.lane),
      key,
    )
  })

  /** What a row was before. `key`: a JSON array of texts. */
  router.get('/pipelines/:id/lanes/:lane/trail', async ctx => {
    const key = valid<string[]>(keySchema, jsonOf(String(ctx.query.key)), 'Key')
    const record = await pipelineRecord(services, ctx.params.id!)
    ctx.body = await rowTrail(services, record, Number(ctx.params.lane), key)
  })
}

/** What is no JSON is undefined, which no schema takes. */
function jsonOf(text: string): unknown {
  try {
    return JSON.parse(text)
  } catch {
    return undefined
  }
}
