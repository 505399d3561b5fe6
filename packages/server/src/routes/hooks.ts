/** Where apps say that a record has changed. Whatever they send beside that is not looked at: the record is asked for. */
import type Router from '@koa/router'
import type { Services } from '../services.ts'
import { isSigned } from '../signed.ts'

const ID = /^[a-z0-9]{1,80}$/

export function hookRoutes(router: Router, { store, engine }: Services): void {
  router.post('/hooks/:hook', async ctx => {
    const { hook: id } = ctx.params
    const hook = id && ID.test(id) ? await store.webhooks.get(id) : undefined
    // Nobody learns which addresses there are.
    const body = ctx.request.rawBody ?? ''
    const isOurs =
      hook && isSigned(hook.signed, { secret: hook.secret, body, now: Date.now() }, name => ctx.get(name))
    if (!isOurs) ctx.throw(401, 'The signature is not that of a subscription of ours.')
    engine.nudge(hook!.pipeline)
    ctx.status = 204
  })
}
