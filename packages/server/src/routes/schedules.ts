/** What is done with a pipeline at set times. */
import type Router from '@koa/router'
import type { ScheduleAnswer } from '@tide/core/api/schedules'
import { SCHEDULED_DEEDS, type Schedule } from '@tide/core/definition/schedule'
import { Failure } from '@tide/core/failure'
import { nextTimes } from '@tide/core/schedule/times'
import { idSchema } from '../ids.ts'
import { pipelineRecord, refuseOrigin } from '../pipeline-record.ts'
import { newId, type Services } from '../services.ts'
import { valid } from '../validate.ts'

const NEXT = 5
const MOST = 50

const scheduleSchema = {
  type: 'object',
  additionalProperties: false,
  required: ['deed', 'cron', 'zone'],
  properties: {
    deed: { enum: SCHEDULED_DEEDS, title: 'What is done' },
    cron: { type: 'string', title: 'When', minLength: 1, maxLength: 200 },
    zone: { type: 'string', title: 'Time zone', minLength: 1, maxLength: 100 },
    missed: { enum: ['once', 'leave'], title: 'Missed times', default: 'once' },
    waitsFor: {
      type: 'array',
      title: 'Waits for',
      items: idSchema,
      maxItems: 100,
      uniqueItems: true,
      default: [],
    },
    only: { enum: ['always', 'landed'], title: 'Only if', default: 'always' },
    enabled: { type: 'boolean', title: 'Switched on', default: true },
  },
}

export function scheduleRoutes(router: Router, services: Services): void {
  const { store } = services
  const path = '/pipelines/:id/schedules'

  const given = async (pipeline: string, body: unknown): Promise<Schedule> => {
    const schedule = valid<Schedule>(scheduleSchema, body, 'Schedule')
    nextTimes(schedule, Date.now(), 1)
    if (schedule.only === 'landed' && schedule.waitsFor.length === 0)
      throw new Failure(
        'refused',
        'It is not said whose rows must have landed.',
        'Choose the pipelines that fill what is asked for.',
      )
    for (const id of schedule.waitsFor) {
      if (id === pipeline)
        throw new Failure('refused', 'A pipeline cannot wait for itself.', 'Choose other pipelines.')
      refuseOrigin(await pipelineRecord(services, id))
    }
    return schedule
  }
  const answer = async (pipeline: string): Promise<ScheduleAnswer[]> =>
    (await store.schedules.list(pipeline)).map(({ pipeline: _, ...one }) => ({
      ...one,
      next: one.enabled ? nextTimes(one, Date.now(), NEXT) : [],
    }))
  const none = (id: string) =>
    new Failure('refused', `There is no schedule ${id}.`, 'Look at the list of schedules again.')

  router.get(path, async ctx => {
    const { id } = await pipelineRecord(services, ctx.params.id!)
    ctx.body = await answer(id)
  })

  router.post(path, async ctx => {
    const record = await pipelineRecord(services, ctx.params.id!)
    refuseOrigin(record)
    const schedule = await given(record.id, ctx.request.body)
    if ((await store.schedules.list(record.id)).length >= MOST)
      throw new Failure('refused', `There are ${MOST} schedules already.`, 'Take one away first.')
    await store.schedules.create(newId(), record.id, schedule, new Date().toISOString())
    ctx.status = 201
    ctx.body = await answer(record.id)
  })

  router.put(`${path}/:schedule`, async ctx => {
    const { id } = await pipelineRecord(services, ctx.params.id!)
    const schedule = await given(id, ctx.request.body)
    const at = new Date().toISOString()
    if (!(await store.schedules.change(ctx.params.schedule!, id, schedule, at)))
      throw none(ctx.params.schedule!)
    ctx.body = await answer(id)
  })

  router.delete(`${path}/:schedule`, async ctx => {
    const { id } = await pipelineRecord(services, ctx.params.id!)
    if (!(await store.schedules.remove(ctx.params.schedule!, id))) throw none(ctx.params.schedule!)
    ctx.body = await answer(id)
  })
}
