/** Rows that targets would not take, and what people do with them. */
import type Router from '@koa/router'
import type { HeldAnswer, HeldOverview } from '@tide/core/api/held'
import type { HeldDeed } from '@tide/core/definition/held'
import { runsOf } from '@tide/core/definition/pipeline'
import { Failure } from '@tide/core/failure'
import { madeOf } from '@tide/core/plan/lane'
import { datasetId, datasetOf } from '@tide/core/records/dataset'
import { outcomeOf } from '../errand-outcome.ts'
import { pipelineRecord } from '../pipeline-record.ts'
import type { Services } from '../services.ts'
import { valid } from '../validate.ts'

const PAGE = 100
/** So many records are done something with at once. */
const AT_ONCE = 10_000

const id = { type: 'integer', minimum: 1, maximum: Number.MAX_SAFE_INTEGER }
const table = { type: 'string', title: 'Table', maxLength: 1000 }
const cause = { type: 'string', title: 'Cause', maxLength: 400 }
const ids = { type: 'array', title: 'Records', items: id, maxItems: 1000 }

const listSchema = {
  type: 'object',
  additionalProperties: false,
  properties: { table, cause, before: id, closed: { const: true } },
}
const ofDeed = (deed: string, more: object, required: string[]) => ({
  type: 'object',
  additionalProperties: false,
  required: ['deed', ...required],
  properties: { deed: { const: deed }, ...more },
})
const whose = { ids, table, cause }
const deedSchema = {
  anyOf: [
    ofDeed('retry', whose, []),
    ofDeed('drop', { ...whose, note: { type: 'string', title: 'The note', minLength: 1, maxLength: 500 } }, [
      'note',
    ]),
    ofDeed(
      'correct',
      {
        ids: { ...ids, minItems: 1, maxItems: 1 },
        values: {
          type: 'object',
          title: 'Values',
          minProperties: 1,
          maxProperties: 2000,
          additionalProperties: { type: ['string', 'null'], maxLength: 1_000_000 },
        },
      },
      ['ids', 'values'],
    ),
  ],
}

export function heldRoutes(router: Router, services: Services): void {
  const { store, engine } = services

  router.get('/held', async ctx => {
    ctx.body = await overview(services)
  })

  router.get('/pipelines/:id/held', async ctx => {
    const { id } = await pipelineRecord(services, ctx.params.id!)
    ctx.body = await overview(services, id)
  })

  /** Of a run: the newest record of each row that is held for one cause, or those that are closed (`closed=true`). */
  router.get('/pipelines/:id/held/records', async ctx => {
    const run = await pipelineRecord(services, ctx.params.id!)
    const { before, closed } = ctx.query
    const asked = valid<{ table?: string; cause?: string; before?: number; closed?: true }>(
      listSchema,
      {
        ...ctx.query,
        ...(before === undefined ? {} : { before: Number(before) }),
        ...(closed === undefined ? {} : { closed: closed === 'true' }),
      },
      'Held records',
    )
    const found = asked.closed
      ? (await store.held.closed(run.id, PAGE)).map(one => ({ ...one, behind: 0 }))
      : await store.held.list(
          run.id,
          { table: asked.table ?? '', cause: asked.cause ?? '' },
          PAGE,
          asked.before,
        )
    ctx.body = found.map(({ identity: _, table, pipeline: _of, ...rest }): HeldAnswer => {
      const source = datasetOf(table)
      const lane = run.lanes.find(one => datasetId(one.source) === table)
      return {
        ...rest,
        table: source,
        target: lane?.target ?? null,
        fields: (lane?.writes ?? []).map(column => ({ name: column.name, from: madeOf(column) ?? null })),
        key: lane?.identity ?? [],
        targetKey: lane?.key ?? [],
      }
    })
  })

  /** With `ids`, or all that are open of a table and a cause. */
  router.post('/pipelines/:id/held', async ctx => {
    const { table, cause, ...asked } = valid<HeldDeed & { table?: string; cause?: string }>(
      deedSchema,
      ctx.request.body ?? {},
      'Held records',
    )
    const run = await pipelineRecord(services, ctx.params.id!)
    const ids =
      asked.ids ?? (await store.held.idsOf(run.id, { table: table ?? '', cause: cause ?? '' }, AT_ONCE))
    if (ids.length === 0)
      throw new Failure('refused', 'None of them is held any more.', 'Look at the list again.')
    const errand = await engine.inTurn(run.id, () => engine.deeds.settleHeld(run.id, { ...asked, ids }))
    ctx.body = await outcomeOf(services, errand, run.state === 'Stopped')
  })
}

async function overview(services: Services, of?: string): Promise<HeldOverview> {
  const [causes, pipelines] = await Promise.all([
    services.store.held.causes(of),
    services.store.pipelines.list(),
  ])
  const runs = new Map(
    pipelines.flatMap(pipeline => runsOf(pipeline).map(run => [run.id, { run, pipeline }] as const)),
  )
  const groups = causes.flatMap(({ run: id, table, ...rest }) => {
    const found = runs.get(id)
    if (!found) return []
    const { run, pipeline } = found
    return {
      ...rest,
      run: id,
      origin: run.origin,
      pipeline: pipeline.id,
      name: pipeline.definition.name,
      table: datasetOf(table),
    }
  })
  return { groups, rows: groups.reduce((sum, { rows }) => sum + rows, 0) }
}
