import type Router from '@koa/router'
import { chosenTables } from '@tide/core/definition/choose'
import { isChangeable, type Definition } from '@tide/core/definition/definition'
import { idSchema } from '../ids.ts'
import { planFor, planForMore } from '../plan.ts'
import { sourceTables } from '../source-tables.ts'
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

  const chosen = async (definition: Definition) =>
    chosenTables(definition, await sourceTables(services, definition, false))

  router.post('/plan', async ctx => {
    const asked = valid<{ pipeline?: string; definition: object; fresh: boolean }>(
      planSchema,
      ctx.request.body,
      'Plan',
    )
    const { pipeline, fresh } = asked
    const definition = validDefinition(asked.definition)
    const present = pipeline ? await store.pipelines.get(pipeline) : undefined
    ctx.body =
      present && !isChangeable(present.state)
        ? await planForMore(services, present, await chosen(definition), fresh)
        : await planFor(services, definition, { pipeline, fresh })
  })
}
