import type Router from '@koa/router'
import { PassThrough } from 'node:stream'
import type { Services } from '../services.ts'

/** One stream for everything live: the pipelines' statuses after each reading and each change of state. */
export function eventRoutes(router: Router, { engine, warn }: Services): void {
  const listening = new Set<PassThrough>()
  let leave: (() => void) | undefined
  let sending = false
  let again = false
  // The store is asked once for all who listen.
  const send = async () => {
    if (sending) return void (again = true)
    sending = true
    try {
      do {
        again = false
        const event = `event: pipelines\ndata: ${JSON.stringify(await engine.statuses())}\n\n`
        // A reader that does not keep up gets the next statuses, not all of them.
        for (const stream of listening) if (!stream.writableNeedDrain) stream.write(event)
      } while (again)
    } finally {
      sending = false
    }
  }
  const sendOrWarn = () => void send().catch(warn)
  router.get('/events', ctx => {
    ctx.set({ 'Content-Type': 'text/event-stream', 'X-Accel-Buffering': 'no' })
    ctx.respond = false
    ctx.res.statusCode = 200
    const stream = new PassThrough()
    for (const [name, value] of Object.entries(ctx.response.headers)) ctx.res.setHeader(name, value as string)
    stream.pipe(ctx.res)
    listening.add(stream)
    leave ??= engine.onChange(sendOrWarn)
    ctx.res.on('close', () => {
      stream.destroy()
      listening.delete(stream)
      if (listening.size > 0) return
      leave?.()
      leave = undefined
    })
    sendOrWarn()
  })
}
