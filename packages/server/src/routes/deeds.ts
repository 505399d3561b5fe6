/** What people do to a pipeline; the answer is its status afterwards. */
import type Router from '@koa/router'
import { asReplication, isChangeable } from '@tide/core/definition/definition'
import { Failure } from '@tide/core/failure'
import { pipelineRecord, refuseOrigin } from '../pipeline-record.ts'
import { planForChange } from '../plan.ts'
import { refuseHindered, startPipeline, STARTS } from '../start.ts'
import type { Services } from '../services.ts'
import { tiesOf } from '../affinity.ts'
import { validDefinition } from '../valid-definition.ts'
import { valid } from '../validate.ts'

const startSchema = {
  type: 'object',
  additionalProperties: false,
  properties: { plan: { type: 'string', maxLength: 64 } },
}

const changeSchema = {
  type: 'object',
  additionalProperties: false,
  required: ['definition'],
  properties: { definition: { type: 'object' }, plan: startSchema.properties.plan },
}

const lanesSchema = {
  type: 'object',
  additionalProperties: false,
  properties: { lanes: { type: 'array', items: { type: 'integer', minimum: 0 }, default: [] } },
}

export function deedRoutes(router: Router, services: Services): void {
  const { store, engine } = services

  const deed = (action: string, act: (id: string, body: unknown) => Promise<void>) =>
    router.post(`/pipelines/:id/${action}`, async ctx => {
      const id = ctx.params.id!
      await engine.inTurn(id, () => act(id, ctx.request.body))
      ctx.body = await engine.status(id)
    })

  // Two starts into one table must not both find it free.
  deed('start', (id, body) => {
    const { plan: shown } = valid<{ plan?: string }>(startSchema, body ?? {}, 'Start')
    return startPipeline(services, id, shown)
  })
  deed('change', (id, body) => {
    const { definition: asked, plan: shown } = valid<{ definition: object; plan?: string }>(
      changeSchema,
      body ?? {},
      'Change',
    )
    const definition = asReplication(validDefinition(asked))
    return engine.inTurn(STARTS, () =>
      store.alone('start', async () => {
        const present = await pipelineRecord(services, id)
        refuseOrigin(present)
        if (isChangeable(present.state)) {
          throw new Failure(
            'refused',
            `“${present.definition.name}” is ${present.state.toLowerCase()}.`,
            'Change its setup, and start it.',
          )
        }
        const plan = await planForChange(services, present, definition, true)
        if (shown !== undefined) services.shownPlans.refuseAnother(shown, definition, plan)
        refuseHindered(plan)
        const { lanes, steps, change } = plan
        const ties = await tiesOf(services, id, definition)
        await engine.change(id, { definition, lanes, steps, change: change! }, ties)
      }),
    )
  })
  deed('pause', id => engine.pause(id))
  deed('continue', id => engine.continue(id))
  /** Of one that asks before it deletes most of a table. */
  deed('let-rows-go', id => engine.deeds.letRowsGo(id))
  deed('land-now', id => engine.deeds.landNow(id))
  deed('stop', id => engine.end(id))
  deed('recopy', (id, body) =>
    engine.deeds.recopy(id, valid<{ lanes: number[] }>(lanesSchema, body ?? {}, 'Recopy').lanes),
  )
  deed('pause-lanes', (id, body) =>
    engine.deeds.pauseLanes(id, valid<{ lanes: number[] }>(lanesSchema, body ?? {}, 'Pause').lanes),
  )
  deed('continue-lanes', (id, body) =>
    engine.deeds.continueLanes(id, valid<{ lanes: number[] }>(lanesSchema, body ?? {}, 'Continue').lanes),
  )
}
