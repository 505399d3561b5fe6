/** Holding a pipeline's target against its sources, what differs, and sending that again. */
import type Router from '@koa/router'
import type { DifferenceAnswer, VerificationAnswer } from '@tide/core/api/verification'
import type { VerificationLevel } from '@tide/core/definition/verification'
import { laneOf, type PipelineRecord } from '@tide/core/definition/pipeline'
import { Failure } from '@tide/core/failure'
import { differencePair } from '../difference-pair.ts'
import { outcomeOf } from '../errand-outcome.ts'
import { pipelineRecord } from '../pipeline-record.ts'
import type { Services } from '../services.ts'
import { valid } from '../validate.ts'

const LISTED = 20
const PAGE = 200

const id = { type: 'integer', minimum: 0, maximum: Number.MAX_SAFE_INTEGER }

const askSchema = {
  type: 'object',
  additionalProperties: false,
  properties: {
    lanes: { type: 'array', title: 'Lanes', items: id, maxItems: 10_000, default: [] },
    level: { enum: ['counts', 'rows'], title: 'What is compared', default: 'rows' },
    rowsPerSecond: {
      type: ['integer', 'null'],
      title: 'Rows a second',
      minimum: 1,
      maximum: 100_000_000,
      default: null,
    },
    pauseAboveSeconds: {
      type: ['number', 'null'],
      title: 'The lag above which it waits',
      minimum: 1,
      maximum: 86_400,
      default: 60,
    },
  },
}

const repairSchema = {
  type: 'object',
  additionalProperties: false,
  properties: { ids: { type: 'array', title: 'Differences', items: id, maxItems: 10_000, default: [] } },
}

const pageSchema = { type: 'object', properties: { after: { ...id, default: 0 } } }

interface Asked {
  lanes: number[]
  level: VerificationLevel
  rowsPerSecond: number | null
  pauseAboveSeconds: number | null
}

export function verificationRoutes(router: Router, services: Services): void {
  const { store, engine } = services
  const path = '/pipelines/:id/verifications'

  /** The newest first. */
  router.get(path, async ctx => {
    const record = await pipelineRecord(services, ctx.params.id!)
    const found = await store.verifications.list(record.id, LISTED)
    ctx.body = found.map(({ pipeline: _, lanes, ...one }): VerificationAnswer => ({
      ...one,
      lanes: lanes.flatMap(lane => {
        const planned = record.lanes[lane.lane]
        if (!planned) return []
        const { source, target, origin = null } = planned
        return { ...lane, source, target, origin }
      }),
    }))
  })

  router.post(path, async ctx => {
    const { lanes, level, ...pace } = valid<Asked>(askSchema, ctx.request.body ?? {}, 'Verification')
    const { id } = await pipelineRecord(services, ctx.params.id!)
    ctx.body = { id: await engine.inTurn(id, () => engine.deeds.verify(id, { lanes, level, pace })) }
    ctx.status = 201
  })

  router.post(`${path}/:verification/end`, async ctx => {
    const { id } = await pipelineRecord(services, ctx.params.id!)
    await store.verifications.end(id, ctx.params.verification!, new Date().toISOString())
    ctx.status = 204
  })

  const lanePath = `${path}/:verification/lanes/:lane`

  /** In the order in which they were found, from behind an id on. */
  router.get(`${lanePath}/differences`, async ctx => {
    const { verification, lane } = await placed(services, ctx.params)
    const { after = 0 } = ctx.query
    const page = valid<{ after: number }>(pageSchema, { after: Number(after) }, 'Differences')
    const found = await store.verifications.differences(verification, lane, page.after, PAGE)
    ctx.body = found.map(({ id, key, kind, columns, repairedAt }): DifferenceAnswer => ({
      id,
      key,
      kind,
      columns,
      repairedAt,
    }))
  })

  /** As the row stands now. */
  router.get(`${lanePath}/differences/:difference`, async ctx => {
    const { record, verification, lane } = await placed(services, ctx.params)
    const difference = valid<number>(id, Number(ctx.params.difference), 'Difference')
    const [found] = await store.verifications.differences(verification, lane, difference - 1, 1)
    if (found?.id !== difference)
      throw new Failure('refused', 'There is no such difference any more.', 'Look at the list again.')
    ctx.body = await differencePair(services, record, record.lanes[lane]!, found.key)
  })

  /** With `ids`, or all that the lane has left. */
  router.post(`${lanePath}/repair`, async ctx => {
    const { ids } = valid<{ ids: number[] }>(repairSchema, ctx.request.body ?? {}, 'Repair')
    const { record, verification, lane } = await placed(services, ctx.params)
    const place = await store.verifications.placeOf(verification, lane)
    const { run, index } = laneOf(record, lane)!
    if (place?.run !== run.id || place.index !== index)
      throw new Failure('refused', 'The setup has changed since.', 'Verify again.')
    if (run.state === 'Stopped' || run.state === 'Finished' || run.state === 'Draft' || run.state === 'Ready')
      throw new Failure(
        'refused',
        `“${record.definition.name}” is ${run.state.toLowerCase()}.`,
        'Rows are written in its own order: let it go on first.',
      )
    const errand = await engine.inTurn(run.id, () =>
      engine.deeds.repair(run.id, { verification, index, ids }),
    )
    ctx.body = await outcomeOf(services, errand, false)
  })
}

/** The lane that an address names. Throws a Failure where there is none. */
async function placed(
  services: Services,
  params: Record<string, string | undefined>,
): Promise<{ record: PipelineRecord; verification: string; lane: number }> {
  const record = await pipelineRecord(services, params.id!)
  const lane = valid<number>(id, Number(params.lane), 'Lane')
  const verification = params.verification!
  const known = await services.store.verifications.isOf(record.id, verification)
  if (!known || !laneOf(record, lane))
    throw new Failure('refused', 'There is no such verification any more.', 'Look at the list again.')
  return { record, verification, lane }
}
