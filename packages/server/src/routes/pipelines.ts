import type Router from '@koa/router'
import { definitionSchema, isChangeable, type Definition } from '@tide/core/definition/definition'
import { Failure } from '@tide/core/failure'
import { hinders } from '@tide/core/plan/plan'
import type { PipelineStatus, PlanAnswer } from '@tide/core/api/types'
import type { PipelineRecord } from '@tide/core/definition/pipeline'
import type { DatasetName } from '@tide/core/records/dataset'
import { planFor, planForMore } from '../plan.ts'
import { tieOf } from '../tie.ts'
import { rowPair } from '../row-pair.ts'
import { idSchema } from '../ids.ts'
import { newId, type Services } from '../services.ts'
import { valid } from '../validate.ts'

const LOG_PAGE = 100
const UNWELL_LAG_S = 60
/** What is done alone among all starts; no pipeline has such an id. */
const STARTS = 'all starts'
/** Spans of the tide chart in seconds, with the resolution that is read for each. */
const RESOLUTION_1S_UP_TO = 2 * 3600

const keySchema = { type: 'array', items: { type: 'string' } }

const planSchema = {
  type: 'object',
  required: ['definition'],
  properties: { pipeline: idSchema, definition: definitionSchema },
}

const logSchema = {
  type: 'object',
  properties: {
    before: { type: 'integer', title: 'before', minimum: 1, maximum: Number.MAX_SAFE_INTEGER },
  },
}

const extendSchema = {
  type: 'object',
  additionalProperties: false,
  required: ['tables'],
  properties: { tables: definitionSchema.properties.tables },
}

const startSchema = {
  type: 'object',
  additionalProperties: false,
  properties: { plan: { type: 'string', maxLength: 64 } },
}

const recopySchema = {
  type: 'object',
  additionalProperties: false,
  properties: { lanes: { type: 'array', items: { type: 'integer', minimum: 0 }, default: [] } },
}

export function pipelineRoutes(router: Router, services: Services): void {
  const { store, engine } = services

  const record = async (id: string): Promise<PipelineRecord> => {
    const found = await store.pipelines.get(id)
    if (!found)
      throw new Failure('refused', `There is no pipeline ${id}.`, 'Look at the list of pipelines again.')
    return found
  }

  const refuseUnknown = async ({ from, to }: Definition): Promise<void> => {
    for (const id of [from, to]) {
      if (id === '' || (await store.connections.get(id))) continue
      throw new Failure('refused', `There is no connection ${id}.`, 'Choose one of those that are there.')
    }
  }

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

  router.get('/pipelines', async ctx => {
    ctx.body = await engine.statuses()
  })

  router.post('/pipelines', async ctx => {
    const definition = valid<Definition>(definitionSchema, ctx.request.body, 'Pipeline')
    await refuseUnknown(definition)
    const id = newId()
    await store.pipelines.create(id, definition)
    ctx.status = 201
    ctx.body = await engine.status(id)
  })

  router.get('/pipelines/:id', async ctx => {
    ctx.body = await engine.status(ctx.params.id!)
  })

  router.put('/pipelines/:id', async ctx => {
    const { id } = await record(ctx.params.id!)
    const definition = valid<Definition>(definitionSchema, ctx.request.body, 'Pipeline')
    await refuseUnknown(definition)
    await engine.inTurn(id, async () => {
      // The store has the last word: another server may start it just now.
      if (await store.pipelines.setDefinition(id, definition)) return
      const { state } = await record(id)
      throw new Failure(
        'refused',
        `“${definition.name}” is ${state.toLowerCase()}.`,
        'Stop it before changing its setup.',
      )
    })
    ctx.body = await engine.status(id)
  })

  /** With `leaveCapture=true` also one that stopped for a reason, or cannot be stopped: its source may be gone. */
  router.delete('/pipelines/:id', async ctx => {
    await engine.inTurn(ctx.params.id!, async () => {
      const { id, state, reason, definition, wanted } = await record(ctx.params.id!)
      const captures = state !== 'Draft' && state !== 'Ready' && reason?.kind !== 'person'
      const over = state === 'Stopped' || wanted === 'stop'
      if (captures && !(over && ctx.query.leaveCapture === 'true')) {
        throw new Failure(
          'refused',
          `“${definition.name}” is ${state.toLowerCase()}.`,
          'Stop it first; then its capture is taken off the source.',
        )
      }
      await engine.halt(id)
      if (await store.connections.get(definition.from))
        await services.journals.of(definition.from).abandon(id)
      await store.pipelines.remove(id)
      engine.forget(id)
    })
    ctx.status = 204
  })

  router.post('/plan', async ctx => {
    const { pipeline, definition } = valid<{ pipeline?: string; definition: Definition }>(
      planSchema,
      ctx.request.body,
      'Plan',
    )
    const present = pipeline ? await store.pipelines.get(pipeline) : undefined
    ctx.body =
      present && !isChangeable(present.state)
        ? await planForMore(services, present, definition.tables, false)
        : await planFor(services, definition, pipeline, false)
  })

  /** What people do to a pipeline; the answer is its status afterwards. */
  const deed = (action: string, act: (id: string, body: unknown) => Promise<void>) =>
    router.post(`/pipelines/:id/${action}`, async ctx => {
      const id = ctx.params.id!
      await engine.inTurn(id, () => act(id, ctx.request.body))
      ctx.body = await engine.status(id)
    })

  // Two starts into one table must not both find it free.
  deed('start', (id, body) => {
    const { plan: shown } = valid<{ plan?: string }>(startSchema, body ?? {}, 'Start')
    return engine.inTurn(STARTS, () =>
      store.alone('start', async () => {
        const { definition } = await record(id)
        const plan = await planFor(services, definition, id, true)
        if (shown !== undefined) services.shownPlans.refuseAnother(shown, definition, plan)
        refuseHindered(plan)
        const { lanes, steps } = plan
        await engine.begin(id, { definition, lanes, steps }, await tieOf(services, id, definition))
      }),
    )
  })
  deed('extend', (id, body) =>
    engine.inTurn(STARTS, () =>
      store.alone('start', async () => {
        const { tables } = valid<{ tables: DatasetName[] }>(extendSchema, body ?? {}, 'Tables')
        const present = await record(id)
        if (isChangeable(present.state)) {
          throw new Failure(
            'refused',
            `“${present.definition.name}” is ${present.state.toLowerCase()}.`,
            'Change its setup, and start it.',
          )
        }
        const plan = await planForMore(services, present, tables, true)
        refuseHindered(plan)
        await engine.extend(id, plan)
      }),
    ),
  )
  deed('pause', id => engine.pause(id))
  deed('continue', id => engine.continue(id))
  deed('stop', id => engine.end(id))
  deed('recopy', (id, body) =>
    engine.recopy(id, valid<{ lanes: number[] }>(recopySchema, body ?? {}, 'Recopy').lanes),
  )

  router.get('/pipelines/:id/figures', async ctx => {
    const seconds = Math.min(40 * 86_400, Math.max(60, Number(ctx.query.seconds) || 300))
    const resolution = seconds <= RESOLUTION_1S_UP_TO ? 1 : 60
    ctx.body = await store.history.figures(ctx.params.id!, resolution, Date.now() - seconds * 1000)
  })

  /** `key`: a JSON array of texts; without it, the last row in key order. */
  router.get('/pipelines/:id/lanes/:lane/row', async ctx => {
    const { key: text } = ctx.query
    const key = text === undefined ? null : valid<string[]>(keySchema, jsonOf(String(text)), 'Key')
    ctx.body = await rowPair(services.sessions, await record(ctx.params.id!), Number(ctx.params.lane), key)
  })

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

/** Stopped for a reason, trying again, or so far behind, or so long not heard of, that somebody should look. */
function isUnwell({ state, reason, retry, lagSeconds }: PipelineStatus): boolean {
  if (state === 'Stopped') return reason?.kind !== 'person'
  return retry !== null || (state === 'Following' && (lagSeconds === null || lagSeconds > UNWELL_LAG_S))
}

const numberOf = (text: string | string[] | undefined) => (text === undefined ? undefined : Number(text))

/** What is no JSON is undefined, which no schema takes. */
function jsonOf(text: string): unknown {
  try {
    return JSON.parse(text)
  } catch {
    return undefined
  }
}

function refuseHindered({ notes }: PlanAnswer): void {
  const refusal = notes.find(hinders)
  if (refusal) throw new Failure('refused', refusal.message, refusal.remedy)
}
