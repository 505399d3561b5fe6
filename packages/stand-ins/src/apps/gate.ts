/** What comes before a stand-in app's interface for programs: who may come in, how often, and what goes wrong. */
import type Koa from 'koa'
import { NO_APP_FAULTS, type AppFaults } from './faults.ts'
import { NotTaken } from './not-taken.ts'

const CALLS_KEPT = 200
const ONCE_KEPT = 20_000
/** For everybody. */
const OPEN = new Set(['/openapi.json', '/authorize', '/token', '/revoke'])

const STATUS: Record<string, number> = { not_found: 404, changed: 412 }

interface Kept {
  status: number
  body: unknown
}

export class Gate {
  faults: AppFaults = { ...NO_APP_FAULTS }
  /** Requests a minute; 0: as many as come. */
  perMinute: number
  readonly calls: { at: string; method: string; path: string; status: number }[] = []
  private readonly token: string
  /** Requests that were carried out, by whom they were named. */
  private readonly once = new Map<string, Kept>()
  private readonly random: () => number
  private tokens: number
  private filledAt = Date.now()

  constructor({ token, perMinute }: { token: string; perMinute: number }, random: () => number) {
    this.token = token
    this.perMinute = perMinute
    this.tokens = this.burst
    this.random = random
  }

  /** Whose a token is that somebody got on the app's page. */
  protected accountOf(_token: string): string | undefined {
    return undefined
  }

  protected async answer(ctx: Koa.Context, next: Koa.Next): Promise<void> {
    const { faults } = this
    if (faults.slowMs > 0) await new Promise(resolve => setTimeout(resolve, faults.slowMs))
    try {
      if (faults.html) {
        ctx.type = 'html'
        ctx.body = '<!doctype html><title>Maintenance</title><p>We are back soon.'
        return
      }
      if (!OPEN.has(ctx.path)) {
        const token = ctx.get('Authorization').replace(/^Bearer /, '')
        const account = this.accountOf(token)
        const known = token === this.token || account !== undefined
        if (faults.expired || !known)
          return refuse(ctx, 401, 'unauthorised', 'The token is not known, or has expired.')
        if (ctx.method !== 'GET' && account?.includes('read by'))
          return refuse(ctx, 403, 'forbidden', 'This account may read, and nothing else.')
        const wait = this.random() < faults.busy ? 1 : this.waitFor()
        if (wait > 0) {
          ctx.set('Retry-After', String(Math.ceil(wait)))
          return refuse(ctx, 429, 'too_many', 'Too many requests.')
        }
        if (this.random() < faults.failing) return refuse(ctx, 500, 'internal', 'Something went wrong.')
      }
      const once = ctx.get('Idempotency-Key')
      const kept = once === '' ? undefined : this.once.get(once)
      if (kept) {
        ctx.status = kept.status
        ctx.body = kept.body
      } else await this.carryOut(ctx, next, once)
      if (ctx.method !== 'GET' && this.random() < faults.lost) {
        ctx.respond = false
        ctx.req.socket.destroy()
      }
    } finally {
      this.calls.push({
        at: new Date().toISOString(),
        method: ctx.method,
        path: ctx.path,
        status: ctx.status,
      })
      if (this.calls.length > CALLS_KEPT) this.calls.shift()
    }
  }

  private async carryOut(ctx: Koa.Context, next: Koa.Next, once: string): Promise<void> {
    try {
      await next()
    } catch (thrown) {
      if (!(thrown instanceof NotTaken)) {
        const { status = 500, message } = thrown as { status?: number; message: string }
        return refuse(ctx, status, 'bad_request', message)
      }
      refuse(ctx, STATUS[thrown.code] ?? 422, thrown.code, thrown.message, thrown.field)
    }
    if (once === '') return
    this.once.set(once, { status: ctx.status, body: ctx.body })
    if (this.once.size > ONCE_KEPT) this.once.delete(this.once.keys().next().value!)
  }

  /** A minute's requests may not come all at once. */
  private get burst(): number {
    return Math.max(1, this.perMinute / 20)
  }

  /** Seconds until there is room; 0: now. */
  private waitFor(): number {
    if (this.perMinute === 0) return 0
    const now = Date.now()
    this.tokens = Math.min(this.burst, this.tokens + ((now - this.filledAt) / 60_000) * this.perMinute)
    this.filledAt = now
    if (this.tokens < 1) return ((1 - this.tokens) / this.perMinute) * 60
    this.tokens--
    return 0
  }
}

function refuse(
  ctx: Koa.Context,
  status: number,
  code: string,
  message: string,
  field: string | null = null,
): void {
  ctx.status = status
  ctx.body = { error: { code, message, field }, message, field }
}
