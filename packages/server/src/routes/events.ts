import type Router from '@koa/router'
import { PassThrough } from 'node:stream'
import type { Services } from '../services.ts'

/** One stream for everything live: the pipelines' statuses after each reading and each change of state. */
export function eventRoutes(router: Router, services: Services): void {
  const { engine } = services
  router.get('/events', ctx => {
    ctx.set({ 'Content-Type': 'text/event-stream', 'Cache-Control': 'no-cache', 'X-Accel-Buffering': 'no' })
    ctx.respond = false
    ctx.res.statusCode = 200
    const stream = new PassThrough()
    for (const [name, value] of Object.entries(ctx.response.headers)) ctx.res.setHeader(name, value as string)
    stream.pipe(ctx.res)
    let sending = false
    let again = false
    const send = async () => {
      if (sending) return void (again = true)
      sending = true
      try {
        do {
          again = false
          const statuses = await engine.statuses()
          // A reader that does not keep up gets the next statuses, not all of them.
          if (!stream.writableNeedDrain)
            stream.write(`event: pipelines\ndata: ${JSON.stringify(statuses)}\n\n`)
        } while (again)
      } finally {
        sending = false
      }
    }
    const sendOrWarn = () => void send().catch(services.warn)
    const leave = engine.onChange(sendOrWarn)
    ctx.req.on('close', () => {
      leave()
      stream.destroy()
    })
    sendOrWarn()
  })
}
