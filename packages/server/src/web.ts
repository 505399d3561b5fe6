import type Koa from 'koa'
import { createReadStream } from 'node:fs'
import { stat } from 'node:fs/promises'
import { extname, join, normalize } from 'node:path'
import { fileURLToPath } from 'node:url'

/** The web build: beside the server's bundle, or in the web package when run from source. */
const ROOTS = ['../web', '../../web/dist'].map(path => fileURLToPath(new URL(path, import.meta.url)))

const TYPES: Record<string, string> = {
  '.html': 'text/html; charset=utf-8',
  '.js': 'text/javascript; charset=utf-8',
  '.css': 'text/css; charset=utf-8',
  '.svg': 'image/svg+xml',
  '.woff2': 'font/woff2',
}

/** Serves the built interface; every address that is no file is a page of it. */
export async function serveWeb(ctx: Koa.Context, next: Koa.Next): Promise<void> {
  if (ctx.path.startsWith('/api/') || (ctx.method !== 'GET' && ctx.method !== 'HEAD')) return next()
  let wanted: string
  try {
    wanted = normalize(decodeURIComponent(ctx.path))
  } catch {
    ctx.throw(400, `The address ${ctx.path} is malformed.`)
  }
  for (const root of ROOTS) {
    for (const file of [join(root, wanted), join(root, 'index.html')]) {
      if (!file.startsWith(root) || !(await isFile(file))) continue
      ctx.type = TYPES[extname(file)] ?? 'application/octet-stream'
      ctx.set(
        'Cache-Control',
        wanted.startsWith('/assets/') ? 'public, max-age=31536000, immutable' : 'no-cache',
      )
      ctx.body = createReadStream(file)
      return
    }
  }
  return next()
}

async function isFile(path: string): Promise<boolean> {
  return (await stat(path).catch(() => undefined))?.isFile() ?? false
}
