/** People let us in on a system's own page; what we ask of an app then. */
import type Router from '@koa/router'
import { connectionRecord } from '../connection-record.ts'
import type { Services } from '../services.ts'
import { signingIn, SignIns } from '../sign-ins.ts'
import { valid } from '../validate.ts'

const signedInSchema = {
  type: 'object',
  required: ['answer'],
  additionalProperties: false,
  properties: { answer: { type: 'string', maxLength: 10_000 } },
}

export function signingInRoutes(router: Router, services: Services): void {
  const { store, sessions, checked } = services
  const signIns = new SignIns()

  /** Calls of an app of late: no bodies, no secrets. */
  router.get('/connections/:id/calls', async ctx => {
    const { id } = await connectionRecord(store, ctx.params.id!)
    ctx.body = await sessions.use(id, ({ app }) => Promise.resolve(app?.calls() ?? []))
  })

  /** Sends a person to the system's page; the answer is where that is. */
  router.post('/connections/:id/sign-in', async ctx => {
    const { id } = await connectionRecord(store, ctx.params.id!)
    const begun = await (await signingIn(services, id)).begin(`${ctx.origin}/signed-in`)
    signIns.begin(id, begun)
    ctx.body = { url: begun.url }
  })

  /** The person is back, with the system's answer. */
  router.post('/sign-ins', async ctx => {
    const { answer } = valid<{ answer: string }>(signedInSchema, ctx.request.body, 'Sign-in')
    const parameters = new URLSearchParams(answer)
    const { connection, begun } = signIns.end(parameters.get('state') ?? '')
    const secrets = await (await signingIn(services, connection)).finish(begun, parameters)
    const { config, ...present } = await connectionRecord(store, connection)
    await store.connections.save({ id: connection, name: present.name, kind: present.kind, config }, secrets)
    checked.forget(connection)
    await sessions.renew(connection)
    ctx.body = { connection }
  })
}
