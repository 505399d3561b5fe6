/** A stand-in app: its interface for programs over its records, with limits and faults. */
import { bodyParser } from '@koa/bodyparser'
import Router, { type RouterContext } from '@koa/router'
import Koa from 'koa'
import { Consent } from './consent.ts'
import type { StandInAppDefinition, StandInObject, StandInRecord } from './definition.ts'
import { documentOf } from './document.ts'
import { Gate } from './gate.ts'
import { NotTaken } from './not-taken.ts'
import type { Given, Records } from './records.ts'
import { StandInWebhooks } from './webhooks.ts'

const PAGE = 100

interface Operation {
  action?: unknown
  id?: unknown
  values?: unknown
  version?: unknown
}

export class StandInApp extends Gate {
  readonly definition: StandInAppDefinition
  readonly records: Records
  readonly consent: Consent
  readonly webhooks: StandInWebhooks

  constructor(definition: StandInAppDefinition, records: Records, random: () => number = Math.random) {
    super(definition, random)
    // People make more of it.
    this.definition = records.app
    this.records = records
    this.consent = new Consent(definition.name, definition.accounts ?? ['the only account'])
    this.webhooks = new StandInWebhooks(`${records.file}.hooks`, () => this.faults, random)
    if (definition.calls) records.changed = (object, id) => this.webhooks.changed(object, id)
  }

  protected override accountOf(token: string): string | undefined {
    return this.consent.accountOf(token)
  }

  /** `server`: its address. */
  api(server: () => string): Koa {
    const app = new Koa()
    app.silent = true
    const router = new Router()
    router.get('/openapi.json', ctx => {
      ctx.body = documentOf(this.definition, server())
    })
    this.consent.routes(router)
    if (this.definition.calls) this.hookRoutes(router)
    if (this.definition.tables) this.tableRoutes(router)
    for (const object of this.definition.objects)
      if (!this.definition.tables || object.remarks) this.routes(router, `/${object.name}`, () => object)
    app.use((ctx, next) => this.answer(ctx, next))
    app.use(bodyParser({ enableTypes: ['json', 'form'], jsonLimit: '20mb' }))
    app.use(router.routes())
    return app
  }

  private hookRoutes(router: Router): void {
    router.post('/webhooks', ctx => {
      const { url, secret, object } = Object(ctx.request.body) as Record<string, unknown>
      const known = this.definition.objects.some(({ name }) => name === object)
      if (typeof url !== 'string' || !/^https?:/.test(url) || typeof secret !== 'string' || !known)
        throw new NotTaken(null, 'bad_request', 'A subscription has a url, a secret and an object.')
      ctx.status = 201
      ctx.body = { id: this.webhooks.add({ url, secret, object: String(object) }).id }
    })
    router.delete('/webhooks/:id', ctx => {
      if (!this.webhooks.remove(ctx.params.id!))
        throw new NotTaken(null, 'not_found', 'There is no such subscription.')
      ctx.status = 204
    })
  }

  private tableRoutes(router: Router): void {
    const { tables } = this.records
    const tableIn = ({ params }: RouterContext) => tables.get(params.object)
    router.get('/tables', ctx => {
      ctx.body = { tables: tables.all().map(table => tables.told(table)) }
    })
    router.post('/tables', ctx => {
      ctx.status = 201
      const table = tables.makeTable(ctx.request.body)
      const made = Object.keys(table.fields).map(field => tables.toldField(table, field))
      ctx.body = { ...tables.told(table), made }
    })
    router.post('/tables/:object/fields', ctx => {
      const field = tables.makeField(ctx.params.object, ctx.request.body)
      ctx.status = 201
      ctx.body = tables.toldField(tables.get(ctx.params.object), field)
    })
    router.delete('/tables/:object/fields/:field', ctx => {
      tables.removeField(ctx.params.object, ctx.params.field)
      ctx.status = 204
    })
    this.routes(router, '/tables/:object/rows', tableIn)
  }

  /** `objectIn`: whose records a call is about. */
  private routes(router: Router, base: string, objectIn: (ctx: RouterContext) => StandInObject): void {
    const { records } = this
    const written = (ctx: RouterContext) => {
      const object = objectIn(ctx)
      if (object.view) throw new NotTaken(null, 'read_only', 'Nobody can write in a view.')
      return object
    }
    router.get(`${base}/count`, ctx => {
      const object = objectIn(ctx)
      const where = this.wanted(object, ctx.query)
      ctx.body = { count: records.of(object.name).filter(where).length }
    })
    router.get(base, ctx => {
      const object = objectIn(ctx)
      if (object.countsOnly) ctx.throw(404, 'There is no such path.')
      this.list(ctx, object)
    })
    if (this.definition.deletions === 'in a feed')
      router.get(`${base}/deleted`, ctx => {
        const gone = records.goneOf(objectIn(ctx).name)
        const after = Number(ctx.query.after ?? 0)
        if (after > 0 && after < (gone[0]?.n ?? 1) - 1)
          ctx.throw(410, 'What was deleted so long ago is not remembered.')
        const data = gone.filter(({ n }) => n > after).slice(0, PAGE)
        ctx.body = { data, next: data.at(-1)?.n ?? after }
      })
    router.post(`${base}/batch`, ctx => {
      const object = written(ctx)
      const { operations } = Object(ctx.request.body) as { operations?: unknown }
      if (!Array.isArray(operations)) throw new NotTaken(null, 'bad_request', 'There are no operations.')
      if (operations.length > object.batch)
        throw new NotTaken(null, 'too_many_operations', `A batch takes ${object.batch} operations.`)
      ctx.body = { results: operations.map(one => this.operate(object, Object(one) as Operation)) }
    })
    router.post(base, ctx => {
      const object = written(ctx)
      const made = records.create(object, valuesOf(ctx.request.body))
      ctx.status = 201
      ctx.body = this.told(object, made)
    })
    const present = (ctx: RouterContext) => {
      const object = objectIn(ctx)
      const { id } = ctx.params
      const record = object.countsOnly ? undefined : records.get(object.view?.of ?? object.name, id ?? '')
      if (record) return this.told(object, record)
      throw new NotTaken(null, 'not_found', `There is no ${object.schema} ${id}.`)
    }
    router.get(`${base}/:id`, ctx => {
      ctx.body = present(ctx)
    })
    router.patch(`${base}/:id`, ctx => {
      const object = written(ctx)
      present(ctx)
      const version = versionOf(/^"(\d+)"$/.exec(ctx.get('If-Match'))?.[1])
      const changed = records.change(object, ctx.params.id!, valuesOf(ctx.request.body), version)
      ctx.body = this.told(object, changed)
    })
    router.delete(`${base}/:id`, ctx => {
      const object = written(ctx)
      present(ctx)
      records.remove(object, ctx.params.id!)
      ctx.status = 204
    })
  }

  private list(ctx: Koa.Context, object: StandInObject): void {
    const { records } = this
    const { name } = object
    const where = this.wanted(object, ctx.query)
    const living = records.of(name).filter(where)
    const isAsked = this.definition.deletions === 'in the list' && ctx.query.deleted === 'true'
    const gone = isAsked
      ? records
          .goneOf(name)
          .map(({ id, at }) => ({ id, updated_at: at }))
          .filter(where)
      : []
    const found = [...living, ...gone].sort((a, b) => numberIn(a.id) - numberIn(b.id))
    const isGone = new Set<object>(gone)
    const size = Math.min(PAGE, Math.max(1, Number(ctx.query.limit ?? PAGE) || PAGE))
    const after = String(ctx.query.after ?? '')
    const begin = after === '' ? 0 : found.findIndex(({ id }) => numberIn(id) > numberIn(after))
    const data = begin < 0 ? [] : found.slice(begin, begin + size)
    const more = begin >= 0 && begin + size < found.length
    ctx.body = {
      data: data.map(record =>
        isGone.has(record) ? { ...record, deleted: true } : this.told(object, record),
      ),
      total: found.length,
      next: more ? data.at(-1)!.id : null,
    }
  }

  private operate(object: StandInObject, { action, id, values, version }: Operation): object {
    const { records } = this
    try {
      const given = valuesOf(values ?? {})
      const which = typeof id === 'string' ? id : records.having(object, given)?.id
      switch (action) {
        case 'create':
        case 'add':
          return this.done(object, records.create(object, given))
        case 'change':
          return this.done(object, records.change(object, which ?? '', given, versionOf(version)))
        case 'delete':
        case 'take out':
          // What is gone already is gone.
          if (which !== undefined && records.get(object.name, which)) records.remove(object, which)
          return { id: which ?? null }
        default:
          throw new NotTaken(null, 'bad_request', `There is no action ${String(action)}.`)
      }
    } catch (thrown) {
      if (!(thrown instanceof NotTaken)) throw thrown
      const { field, code, message } = thrown
      return { error: { field, code, message } }
    }
  }

  /** Of what cannot be read back only the id is told. */
  private done(object: StandInObject, record: StandInRecord): object {
    return { id: record.id, ...(object.countsOnly ? {} : { record: this.told(object, record) }) }
  }

  /** Files come with their names. */
  private told(object: StandInObject, record: StandInRecord): object {
    const shown = this.records.shown(object, record)
    const files = Object.entries(object.fields).flatMap(([name, { files }]) => {
      const addresses = shown[name]
      if (!files || !Array.isArray(addresses)) return []
      return [[name, addresses.map(url => ({ name: url.split('/').at(-1), url }))] as const]
    })
    return { ...shown, ...Object.fromEntries(files) }
  }

  private wanted(object: StandInObject, query: Record<string, unknown>) {
    const asked = object.findBy.flatMap(field => {
      const value = query[field]
      const normal = object.fields[field]?.normal
      return typeof value === 'string' ? [{ field, value: normal ? normal(value) : value }] : []
    })
    const { updated_since: since } = query
    const from = typeof since === 'string' ? Date.parse(since) : Number.NaN
    return (record: Record<string, unknown>) =>
      !(Date.parse(String(record.updated_at)) < from) &&
      asked.every(({ field, value }) => String(record[field]) === value)
  }
}

function valuesOf(body: unknown): Given {
  if (typeof body === 'object' && body !== null && !Array.isArray(body)) return body as Given
  throw new NotTaken(null, 'bad_request', 'A record is an object with fields.')
}

function versionOf(said: unknown): number | undefined {
  return said === undefined || said === null ? undefined : Number(said)
}

function numberIn(id: string): number {
  return Number(id.replace(/^\D+/, ''))
}
