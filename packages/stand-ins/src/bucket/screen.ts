/** The bucket's own small screen: what is in it, and what goes wrong with it. */
import { bodyParser } from '@koa/bodyparser'
import Router from '@koa/router'
import Koa from 'koa'
import { gunzipSync } from 'node:zlib'
import { guarded } from '../screen/frame.ts'
import { html, type Markup } from '../screen/html.ts'
import { standInPage } from '../screen/page.ts'
import type { StandInBucket } from './bucket.ts'
import { NO_FAULTS, type Faults } from './faults.ts'

const MOST_OBJECTS = 500
const MOST_SHOWN_BYTES = 64 * 1024

const STATES: { title: string; faults: Partial<Faults> }[] = [
  { title: 'well', faults: {} },
  { title: 'slow', faults: { slowMs: 2000 } },
  { title: 'failing', faults: { failing: 0.3 } },
  { title: 'loses answers', faults: { lost: 0.3 } },
  { title: 'full', faults: { full: true } },
  { title: 'deletes nothing', faults: { keeps: true } },
]

export interface BucketScreen {
  name: string
  bucket: StandInBucket
  endpoint: string
  keys: { accessKeyId: string; secretAccessKey: string }
}

export function createBucketScreen(parts: BucketScreen): Koa {
  const { bucket } = parts
  const app = new Koa()
  const router = new Router()
  router.get('/', ctx => {
    ctx.type = 'html'
    ctx.body = page(parts, list(parts, String(ctx.query.in ?? ''))).markup
  })
  router.get('/object', ctx => {
    const key = String(ctx.query.key ?? '')
    if (!bucket.objects.info(key)) ctx.throw(404, 'There is no such object.')
    ctx.type = 'html'
    ctx.body = page(parts, shown(parts, key)).markup
  })
  router.post('/faults', ctx => {
    const { state } = ctx.request.body as Record<string, string>
    const found = STATES.find(({ title }) => title === state)
    if (found) bucket.faults = { ...NO_FAULTS, ...found.faults }
    ctx.redirect('/')
  })
  app.silent = true
  app.use(guarded)
  app.use(bodyParser({ enableTypes: ['form'] }))
  app.use(router.routes())
  return app
}

function page({ name, bucket, endpoint, keys }: BucketScreen, body: Markup): Markup {
  return standInPage({
    name,
    what: 'bucket of Osier Valley Growers',
    nav: html`<h2>Reach it with a client</h2>
      <p>
        ${endpoint}, bucket ${name}, access key ${keys.accessKeyId}, secret key ${keys.secretAccessKey}; it
        speaks as much of S3 as its clients use.
      </p>`,
    legend: 'The store is',
    states: STATES,
    none: NO_FAULTS,
    present: bucket.faults,
    body,
  })
}

function list({ bucket, name }: BucketScreen, folder: string): Markup {
  const all = bucket.objects.all().filter(({ key }) => key.startsWith(folder))
  const folders = new Map<string, number>()
  const own = all.filter(({ key }) => {
    const [first, ...rest] = key.slice(folder.length).split('/')
    if (rest.length > 0) folders.set(first!, (folders.get(first!) ?? 0) + 1)
    return rest.length === 0
  })
  const within = (to: string) => `/?in=${encodeURIComponent(to)}`
  const parent = folder.replace(/[^/]+\/$/, '')
  return html`<h1>${name}/${folder}</h1>
    ${folder !== '' && html`<p><a href="${within(parent)}">up</a></p>`}
    ${all.length === 0 && html`<p>Nothing is here yet.</p>`}
    <table>
      ${[...folders].map(
        ([one, count]) =>
          html`<tr>
            <td><a href="${within(`${folder}${one}/`)}">${one}/</a></td>
            <td>${count} objects</td>
            <td></td>
          </tr>`,
      )}
      ${own.slice(-MOST_OBJECTS).map(
        ({ key, bytes, modified }) =>
          html`<tr>
            <td><a href="/object?key=${encodeURIComponent(key)}">${key.slice(folder.length)}</a></td>
            <td>${bytes.toLocaleString('en')} bytes</td>
            <td>${modified.toISOString()}</td>
          </tr>`,
      )}
    </table>
    ${own.length > MOST_OBJECTS && html`<p>The last ${MOST_OBJECTS} of ${own.length} objects.</p>`}`
}

function shown({ bucket }: BucketScreen, key: string): Markup {
  const body = bucket.objects.get(key)
  const text = textOf(key, body)
  return html`<h1>${key}</h1>
    <p>${body.length.toLocaleString('en')} bytes</p>
    <pre>${text ?? 'It is no text.'}</pre>`
}

function textOf(key: string, body: Buffer): string | undefined {
  if (key.endsWith('.parquet')) return undefined
  try {
    return (key.endsWith('.gz') ? gunzipSync(body) : body).toString('utf8', 0, MOST_SHOWN_BYTES)
  } catch {
    return undefined
  }
}
