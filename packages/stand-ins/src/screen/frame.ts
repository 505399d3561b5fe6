/** What the screens of all stand-ins have in common: plain forms, no script, and nobody else's pages. */
import type Koa from 'koa'

export const STYLE = `
body{font:14px/1.45 system-ui,sans-serif;margin:0;background:#fff;color:#222}
header{background:#3b4a3f;color:#fff;padding:10px 20px;display:flex;gap:16px;align-items:baseline}
header a{color:#fff;font-weight:600}header .mark{background:#ffe9a8;color:#4a3a00;padding:1px 8px}
main{display:grid;grid-template-columns:230px minmax(0,1fr);gap:24px;padding:16px 20px}
nav a{display:block;padding:3px 6px;color:#234}nav a[aria-current]{background:#e4ebe5;font-weight:600}
nav h2,main h2{font-size:13px;margin:14px 0 4px;color:#555}h1{font-size:18px;margin:0 0 8px}
table{border-collapse:collapse;font-size:13px}td,th{border-bottom:1px solid #ddd;padding:4px 8px;text-align:left;max-width:240px;overflow:hidden;text-overflow:ellipsis;white-space:nowrap}
.scroll{overflow:auto}button,input,textarea{font:inherit}button{padding:3px 10px}.error{background:#fde8e2;border-left:4px solid #b83d13;padding:8px 12px}
form.row{display:grid;grid-template-columns:170px minmax(0,420px);gap:6px 12px;align-items:start}form.inline{display:inline}
.null{color:#777;font-style:italic}fieldset{border:1px solid #ccc;padding:8px 12px;margin:0 0 12px}[aria-pressed=true]{background:#3b4a3f;color:#fff}`

export async function guarded(ctx: Koa.Context, next: Koa.Next): Promise<void> {
  // A foreign name that was made to point here must not lend a page our origin.
  if (!['127.0.0.1', 'localhost'].includes(ctx.hostname)) ctx.throw(403, 'This name is not served.')
  const origin = ctx.get('Origin')
  const own = origin === '' || (URL.canParse(origin) && new URL(origin).host === ctx.host)
  const site = ctx.get('Sec-Fetch-Site')
  if (ctx.method === 'POST' && (!own || site === 'cross-site')) ctx.throw(403, 'Another site’s form.')
  ctx.set({
    'Content-Security-Policy':
      "default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'none'; base-uri 'none'",
    'X-Content-Type-Options': 'nosniff',
    'Referrer-Policy': 'same-origin',
  })
  await next()
}

/** A path on this screen, whatever a form says. */
export function safePath(path: string | undefined): string {
  return path?.startsWith('/') && !path.startsWith('//') ? path : '/'
}
