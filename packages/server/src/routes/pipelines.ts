import type Router from '@koa/router'
import type { Definition } from '@tide/core/definition/definition'
import { Failure } from '@tide/core/failure'
import { originsOf } from '@tide/core/definition/origins'
import { runsOf, sourceOf, type PipelineRecord } from '@tide/core/definition/pipeline'
import { pipelineRecord, refuseOrigin } from '../pipeline-record.ts'
import { newId, type Services } from '../services.ts'
import { validDefinition } from '../valid-definition.ts'

const ERRANDS = 50

export function pipelineRoutes(router: Router, services: Services): void {
  const { store, engine } = services

  const refuseUnknown = async ({ to, ...definition }: Definition): Promise<void> => {
    for (const id of [...originsOf(definition).map(({ connection }) => connection), to]) {
      if (id === '' || (await store.connections.get(id))) continue
      throw new Failure('refused', `There is no connection ${id}.`, 'Choose one of those that are there.')
    }
  }

  router.get('/pipelines', async ctx => {
    ctx.body = await engine.statuses()
  })

  router.post('/pipelines', async ctx => {
    const definition = validDefinition(ctx.request.body)
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
    const record = await pipelineRecord(services, ctx.params.id!)
    refuseOrigin(record)
    const { id } = record
    const definition = validDefinition(ctx.request.body)
    await refuseUnknown(definition)
    refuseOtherPlaces(record, definition)
    await engine.inTurn(id, async () => {
      // The store has the last word: another server may start it just now.
      if (await store.pipelines.setDefinition(id, definition)) return
      const { state } = await pipelineRecord(services, id)
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
      const record = await pipelineRecord(services, ctx.params.id!)
      refuseOrigin(record)
      const { id, state, reason, definition, wanted } = record
      const finished = state === 'Finished' && wanted !== 'stop'
      const captures = state !== 'Draft' && state !== 'Ready' && !finished && reason?.kind !== 'person'
      const over = state === 'Stopped' || wanted === 'stop'
      if (captures && !(over && ctx.query.leaveCapture === 'true')) {
        throw new Failure(
          'refused',
          `“${definition.name}” is ${state.toLowerCase()}.`,
          'Stop it first; then its capture is taken off the source.',
        )
      }
      await engine.halt(id)
      if (definition.shape === 'send') await services.sent.remove(id)
      for (const run of definition.shape === 'replicate' &&
      (record.origins.length > 0 || typeof definition.from === 'string')
        ? runsOf(record)
        : []) {
        const source = sourceOf(run)
        if (await store.connections.get(source)) await services.journals.of(source).abandon(run.id)
        engine.forget(run.id)
      }
      await store.pipelines.remove(id)
      engine.forget(id)
    })
    ctx.status = 204
  })

  /** What was asked of it while it ran, the newest first. */
  router.get('/pipelines/:id/errands', async ctx => {
    const { id } = await pipelineRecord(services, ctx.params.id!)
    ctx.body = await store.errands.last(id, ERRANDS)
  })
}

/** What is paired is of the records of two apps; of others it would say nothing true. */
function refuseOtherPlaces({ startedAt, definition: before }: PipelineRecord, definition: Definition): void {
  if (definition.shape !== 'two-way' || before.shape !== 'two-way' || startedAt === null) return
  if (definition.from === before.from && definition.to === before.to) return
  throw new Failure(
    'refused',
    `What “${before.name}” has paired is of the records of its two apps, and cannot be of others.`,
    'Make another pipeline for them.',
  )
}
