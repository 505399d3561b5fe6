/** What keeps pages from elsewhere, and strange bodies, out. */
import { bodyParser } from '@koa/bodyparser'
import { Failure } from '@tide/core/failure'
import type Koa from 'koa'

/** What a loopback server may be called in an address. */
const LOOPBACK_NAMES = new Set(['127.0.0.1', 'localhost', '[::1]', '::1'])

/** Styles may stand in the page, since menus and dialogs place themselves by them; scripts may not. */
const CONTENT_POLICY = [
  `default-src 'none'`,
  `script-src 'self'`,
  `style-src 'self' 'unsafe-inline'`,
  `img-src 'self' data:`,
  `font-src 'self'`,
  `connect-src 'self'`,
  `base-uri 'none'`,
  `form-action 'none'`,
  `frame-ancestors 'none'`,
].join('; ')

/** Bodies deeper than this are nobody's; all of ours are far flatter. */
const DEEPEST = 64

export class Foreign extends Failure {
  constructor(message: string) {
    super('refused', message, 'Use the pages of this server, at 127.0.0.1 or localhost.')
  }
}

export async function headers(ctx: Koa.Context, next: Koa.Next): Promise<void> {
  ctx.set({
    'Content-Security-Policy': CONTENT_POLICY,
    'X-Content-Type-Options': 'nosniff',
    'Referrer-Policy': 'no-referrer',
    'Cross-Origin-Opener-Policy': 'same-origin',
    'Cross-Origin-Resource-Policy': 'same-origin',
  })
  if (ctx.path.startsWith('/api/')) ctx.set('Cache-Control', 'no-store')
  await next()
}

export async function ownPagesOnly(ctx: Koa.Context, next: Koa.Next): Promise<void> {
  // A foreign name that was made to point here must not lend a page our origin.
  if (!LOOPBACK_NAMES.has(ctx.hostname)) throw new Foreign(`The name ${ctx.hostname} is not served.`)
  const writes = ctx.method !== 'GET' && ctx.method !== 'HEAD'
  const asks = writes || ctx.path.startsWith('/api/')
  const site = ctx.get('Sec-Fetch-Site')
  if (asks && site !== '' && site !== 'same-origin' && site !== 'none')
    throw new Foreign('Requests from pages of other origins are not taken.')
  const origin = ctx.get('Origin')
  if (asks && origin !== '' && hostOf(origin) !== ctx.host)
    throw new Foreign(`Requests from ${origin} are not taken.`)
  // Browsers ask first whether they may send JSON elsewhere.
  if (writes && hasBody(ctx) && !ctx.request.is('json'))
    throw new Failure('refused', 'Bodies must be JSON.', 'Send Content-Type: application/json.')
  await next()
}

function hasBody(ctx: Koa.Context): boolean {
  return ctx.get('Transfer-Encoding') !== '' || (ctx.request.length ?? 0) > 0
}

/** Pages without an address of their own say `null`. */
const hostOf = (origin: string) => (URL.canParse(origin) ? new URL(origin).host : undefined)

/** What cannot be unpacked or read is the sender's fault, whatever it throws. */
export const readBody = bodyParser({
  enableTypes: ['json'],
  jsonLimit: '4mb',
  onError: (error: Error & { status?: number }, ctx: Koa.Context) =>
    ctx.throw(error.status ?? 400, error.message),
})

/** Texts that no database takes, and nesting that nobody means. */
export async function plainBodyOnly(ctx: Koa.Context, next: Koa.Next): Promise<void> {
  const fault = /%00/.test(ctx.url) ? NUL : faultIn(ctx.request.body)
  if (fault) throw new Failure('refused', `The request holds ${fault}.`, 'Leave it out.')
  await next()
}

const NUL = 'a NUL character'

function faultIn(body: unknown): string | undefined {
  const left: [value: unknown, depth: number][] = [[body, 0]]
  for (let next = left.pop(); next; next = left.pop()) {
    const [value, depth] = next
    if (typeof value === 'string') {
      const fault = faultOf(value)
      if (fault) return fault
    } else if (value !== null && typeof value === 'object') {
      if (depth === DEEPEST) return `more than ${DEEPEST} levels`
      for (const [name, inner] of Object.entries(value)) {
        const fault = Array.isArray(value) ? undefined : faultOf(name)
        if (fault) return fault
        left.push([inner, depth + 1])
      }
    }
  }
  return undefined
}

function faultOf(text: string): string | undefined {
  if (text.includes('\0')) return NUL
  return isWellFormed(text) ? undefined : 'half a character (a lone surrogate)'
}

const isWellFormed = (text: string) => !/[\ud800-\udfff]/u.test(text)
