import type Router from '@koa/router'
import { asReplication, isChangeable } from '@tide/core/definition/definition'
import { idSchema } from '../ids.ts'
import { planFor, planForChange } from '../plan.ts'
import type { Services } from '../services.ts'
import { validDefinition } from '../valid-definition.ts'
import { valid } from '../validate.ts'

const planSchema = {
  type: 'object',
  required: ['definition'],
  properties: {
    pipeline: idSchema,
    definition: { type: 'object' },
    fresh: { type: 'boolean', default: false },
  },
}

export function planRoutes(router: Router, services: Services): void {
  const { store } = services

  router.post('/plan', async ctx => {
    const asked = valid<{ pipeline?: string; definition: object; fresh: boolean }>(
      planSchema,
      ctx.request.body,
      'Plan',
    )
    const { pipeline, fresh } = asked
    const definition = asReplication(validDefinition(asked.definition))
    const present = pipeline ? await store.pipelines.get(pipeline) : undefined
    ctx.body =
      present && !isChangeable(present.state)
        ? await planForChange(services, present, definition, fresh)
        : await planFor(services, definition, { pipeline, fresh })
  })
}
