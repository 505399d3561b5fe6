/** An app by its description, as one works with it. */
import type { DescribedRecords } from '@tide/core/app/described-records'
import type { AppDescription, WebhookSigning } from '@tide/core/app/description'
import type { AppField, AppObject, WriteAnswer, WriteOperation } from '@tide/core/app/object'
import { faultsOf, isOpenApi, objectsOf, type OpenApi } from '@tide/core/app/openapi'
import { Failure } from '@tide/core/failure'
import { stringify } from 'lossless-json'
import { parseDocument } from 'yaml'
import {
  type AppCall,
  type AppRecord,
  type AppSide,
  type ListAsked,
  type MakeAsked,
  type PlaceSide,
  type ToldChanges,
  type ToMake,
} from '../contract/app.ts'
import { Changes } from './changes.ts'
import { besideFeed, placesIn } from './deletions.ts'
import { Discovery } from './discovery.ts'
import { Sheets } from './sheets.ts'
import { Understood } from './understood.ts'
import { Caller, saidIn, type Answer } from './caller.ts'
import type { AppSettings } from './settings.ts'
import type { KeepSecrets } from '../contract/session.ts'
import { jsonValues, recordIn, recordOf } from './record-values.ts'
import { at, filled, isSaid, placed, textOf } from './values.ts'

/** However an app numbers its pages, there is an end. */
const MOST_PAGES = 1_000_000
/** Where the description does not say how much. */
const OVERLAP_SECONDS = 10

export class DescribedApp implements AppSide {
  private readonly description: AppDescription
  private readonly settings: AppSettings
  private readonly caller: Caller
  private readonly understood: Understood
  private readonly sheets: Sheets | undefined
  private readonly discovery: Discovery | undefined
  private known: Promise<AppObject[]> | undefined

  constructor(description: AppDescription, settings: AppSettings, keep?: KeepSecrets) {
    this.description = description
    this.settings = settings
    this.caller = new Caller(description, settings, keep)
    const { app, sheets, discovery } = description
    this.understood = new Understood(app)
    this.sheets = sheets && new Sheets(app, sheets, this.caller)
    this.discovery = discovery && new Discovery(app, discovery, this.caller)
  }

  /** undefined: the object is none. */
  private sheetsFor(object: string): Sheets | undefined {
    return this.isDescribed(object) ? undefined : this.sheets
  }

  private isDescribed(object: string): boolean {
    return Object.hasOwn(this.description.objects, object)
  }

  get name(): string {
    return this.description.app
  }

  readonly countsCalls = true

  get atOnce(): number {
    return this.caller.atOnce
  }

  get perMinute(): number | null {
    return this.description.limits?.perMinute ?? null
  }

  get knowsRepeats(): boolean {
    const { idempotency, objects } = this.description
    // Sheets do, by the keys that we give.
    return idempotency !== undefined || (this.sheets !== undefined && Object.keys(objects).length === 0)
  }

  calls(): AppCall[] {
    return this.caller.calls
  }

  mostTogether(object: string): number {
    return this.sheetsFor(object)?.most ?? this.described(object).batch?.most ?? 1
  }

  async objects(): Promise<AppObject[]> {
    const described = await this.describedObjects()
    const others = (await (this.sheets ?? this.discovery)?.objects()) ?? []
    return [...described, ...others.filter(({ name }) => !this.isDescribed(name))]
  }

  private describedObjects(): Promise<AppObject[]> {
    this.known ??= this.readObjects()
    this.known.catch(() => (this.known = undefined))
    return this.known
  }

  private async readObjects(): Promise<AppObject[]> {
    const document = await this.document()
    const [fault] = faultsOf(this.description, document)
    if (!fault) return objectsOf(this.description, document)
    throw new Failure(
      'structural',
      `The description of ${this.name} does not fit its OpenAPI document, at ${fault.at.join('.')}: ${fault.message}`,
      fault.remedy,
    )
  }

  /** The app's OpenAPI document. */
  async document(signal: AbortSignal = new AbortController().signal): Promise<OpenApi> {
    const { openapi } = this.settings
    const document: unknown =
      openapi === '' || /^https?:\S+$/.test(openapi.trim())
        ? plain(
            (
              await this.caller.call({
                method: 'GET',
                path: openapi.trim() || '/openapi.json',
                open: true,
                signal,
              })
            ).body,
          )
        : parseDocument(openapi, { prettyErrors: false }).toJS({ maxAliasCount: 0 })
    if (isOpenApi(document)) return document
    throw new Failure(
      'structural',
      `What ${this.name} has as its OpenAPI document is none of version 3.`,
      'Give the document’s address or its text in the connection’s settings.',
    )
  }

  get makes(): PlaceSide['makes'] {
    return this.discovery?.makes ? { inSchemas: false } : undefined
  }

  toMake(asked: MakeAsked): Promise<ToMake> {
    if (this.discovery) return Promise.resolve(this.discovery.toMake(asked))
    throw new Failure('refused', `${this.name} lets nobody make fields.`, 'Make them there by hand.')
  }

  list(object: string, { where = {}, most, signal }: ListAsked): AsyncGenerator<AppRecord[]> {
    const sheets = this.sheetsFor(object)
    if (sheets) return sheets.list(object, { where, signal })
    const query: Record<string, string> = {}
    for (const [field, value] of Object.entries(where)) {
      const parameter = this.described(object).list?.where?.[field]
      if (parameter === undefined) throw new Error(`${object} cannot be asked for by ${field}`)
      query[parameter] = value
    }
    return this.pages(object, query, { most, signal })
  }

  async prepare(object: string, signal: AbortSignal): Promise<void> {
    await this.sheetsFor(object)?.prepare(object, signal)
  }

  async *changes(
    object: string,
    cursor: string | null,
    signal: AbortSignal,
    known = false,
  ): AsyncGenerator<ToldChanges> {
    const sheets = this.sheetsFor(object)
    if (sheets) return yield* sheets.changes(object, cursor, { signal, known })
    const { gone: feed } = this.described(object)
    const places = placesIn(cursor)
    const list = this.listed(object, places.list, signal)
    if (!feed) return yield* list
    const { caller, understood, name: app } = this
    yield* besideFeed(list, feed, object, places.feed, { app, caller, understood, signal })
  }

  /** By its list alone. */
  private async *listed(
    object: string,
    cursor: string | null,
    signal: AbortSignal,
  ): AsyncGenerator<ToldChanges> {
    const { key, list } = this.described(object)
    const { changed } = list ?? {}
    if (!changed) {
      for await (const page of this.pages(object, {}, { signal }))
        yield { changed: page.flatMap(record => (record[key] ? [{ id: record[key], record }] : [])) }
      return
    }
    const { field, parameter, overlap = OVERLAP_SECONDS, gone: pointer, with: also = {} } = changed
    const changes = new Changes({ key, field, overlapMs: overlap * 1000 }, cursor, Date.now())
    const { since } = changes
    const query = since === undefined ? {} : { ...also, [parameter]: since }
    const isGone = (told: unknown) => pointer !== undefined && isSaid(at(told, pointer))
    for await (const page of this.told(object, query, { signal })) {
      const living = page.filter(one => !isGone(one))
      const dead = page.filter(isGone).map(one => ({
        [key]: textOf(at(one, `/${key}`)),
        [field]: textOf(at(one, `/${field}`)),
        gone: 'gone',
      }))
      yield {
        changed: changes.fresh(await this.recordsIn(object, living)),
        gone: changes.fresh(dead).map(({ id }) => id),
      }
    }
    yield { changed: [], cursor: changes.cursor }
  }

  private async *pages(
    object: string,
    asked: Record<string, string>,
    how: { most?: number | undefined; signal: AbortSignal },
  ): AsyncGenerator<AppRecord[]> {
    for await (const page of this.told(object, asked, how)) yield await this.recordsIn(object, page)
  }

  /** Pages as they came. */
  private async *told(
    object: string,
    asked: Record<string, string>,
    { most, signal }: { most?: number | undefined; signal: AbortSignal },
  ): AsyncGenerator<unknown[]> {
    const { list } = this.described(object)
    if (!list)
      throw new Failure(
        'refused',
        `${this.name} does not list ${object}.`,
        'What was sent there is in the records of its pipeline.',
      )
    await this.fields(object)
    const { paging, size, items = '' } = list
    const query = { ...asked }
    const pageSize = size && Math.min(size.most, most ?? size.most)
    if (size) query[size.parameter] = String(pageSize)
    let path: string | null = list.path
    let place = paging?.by === 'page' ? (paging.first ?? 1) : 0
    let cursor: string | null = null
    for (let page = 0; page < MOST_PAGES; page++) {
      if (paging?.by === 'cursor' && cursor !== null) query[paging.parameter] = cursor
      if (paging?.by === 'page' || paging?.by === 'offset') query[paging.parameter] = String(place)
      // The address of a next page says all that it needs.
      const answer: Answer = await this.caller.call({
        method: 'GET',
        path,
        query: page > 0 && paging?.by === 'link' ? {} : query,
        signal,
      })
      const records = this.understood.at(answer, `the list of ${object}`, items)
      if (!Array.isArray(records))
        throw new Failure(
          'structural',
          `${this.name} answered the list of ${object} without a list${items === '' ? '' : ` at ${items}`}.`,
          'Correct “items” in the description.',
        )
      if (records.length > 0) yield records
      if (!paging || records.length === 0) return
      if (paging.by === 'page') place++
      else if (paging.by === 'offset') place += records.length
      else if (paging.by === 'cursor') {
        const next = textOf(at(answer.body, paging.next))
        if (next === null || next === '') return
        if (next === cursor) throw stuck(this.name, object)
        cursor = next
      } else {
        const next = nextLink(answer.headers.get('Link'))
        if (next === undefined) return
        path = new URL(next, this.settings.server + list.path).href
      }
      const known = paging.by === 'page' || paging.by === 'offset'
      if (known && pageSize !== undefined && records.length < pageSize) return
    }
  }

  /** How many records there are, where the app says so. */
  async total(object: string, signal: AbortSignal): Promise<number | undefined> {
    if (this.sheetsFor(object)) return undefined
    const { list } = this.described(object)
    if (list?.total === undefined) return undefined
    const query = list.size ? { [list.size.parameter]: '1' } : {}
    const answer = await this.caller.call({ method: 'GET', path: list.path, query, signal })
    const total = Number(textOf(this.understood.at(answer, `the list of ${object}`, list.total)))
    return Number.isSafeInteger(total) ? total : undefined
  }

  async read(object: string, id: string, signal: AbortSignal): Promise<AppRecord | undefined> {
    const sheets = this.sheetsFor(object)
    if (sheets) return sheets.read(object, id, signal)
    const { read } = this.described(object)
    if (!read)
      throw new Failure('refused', `${this.name} does not show single ${object}.`, 'Look at their list.')
    const answer = await this.caller.call({ method: 'GET', path: withId(read.path, id), signal })
    if (answer.status === 404 || answer.status === 410) return undefined
    const told = this.understood.at(answer, `${object} ${id}`, read.item ?? '')
    const [record] = await this.recordsIn(object, [told])
    return record
  }

  async write(
    object: string,
    operations: readonly WriteOperation[],
    asked: { once: string; signal: AbortSignal },
  ): Promise<WriteAnswer[]> {
    const sheets = this.sheetsFor(object)
    if (sheets) return sheets.write(object, operations, asked)
    const { batch, key } = this.described(object)
    const fields = await this.fields(object)
    if (batch && operations.every(({ op }) => batch[op] !== undefined))
      return this.writeTogether(object, operations, { ...asked, batch, fields, key })
    const answers: WriteAnswer[] = []
    for (const [n, operation] of operations.entries())
      answers.push(await this.writeOne(object, operation, { ...asked, once: `${asked.once}-${n}`, fields }))
    return answers
  }

  private async writeTogether(
    object: string,
    operations: readonly WriteOperation[],
    {
      once,
      signal,
      batch,
      fields,
      key,
    }: {
      key: string
      once: string
      signal: AbortSignal
      batch: NonNullable<DescribedRecords['batch']>
      fields: AppField[]
    },
  ): Promise<WriteAnswer[]> {
    const items = operations.map(operation => {
      const values = jsonValues(operation.values, fields)
      const named = Object.fromEntries(
        Object.entries(values).map(([name, value]) => [`values.${name}`, value]),
      )
      const id = 'id' in operation ? operation.id : null
      const version = 'version' in operation ? operation.version : null
      return filled(batch[operation.op], { ...named, id, version, values })
    })
    const answer = await this.caller.call({
      method: batch.method ?? 'POST',
      path: batch.path,
      body: placed(batch.operations, items),
      headers: this.onceHeader(once),
      writes: true,
      signal,
    })
    const answers = this.understood.at(answer, `a batch of ${object}`, batch.answers)
    if (!Array.isArray(answers) || answers.length !== operations.length)
      throw new Failure(
        'structural',
        `${this.name} answered ${operations.length} operations with ${Array.isArray(answers) ? answers.length : 'no'} answers.`,
        'Correct “answers” in the description.',
      )
    return answers.map((one: unknown): WriteAnswer => {
      const refused = at(one, batch.refused)
      if (refused === undefined || refused === null || refused === false)
        return {
          answer: 'done',
          id: batch.id === undefined ? null : textOf(at(one, batch.id)),
          ...recordIn(one, batch.item, key, fields),
        }
      const { gone, changed } = batch
      if (changed && textOf(at(one, changed.at)) === changed.is) return { answer: 'changed' }
      if (gone && textOf(at(one, gone.at)) === gone.is) return { answer: 'gone' }
      const field = batch.field === undefined ? null : textOf(at(one, batch.field))
      return { answer: 'refused', field, reason: textOf(at(one, batch.message)) ?? saidIn(one) }
    })
  }

  private async writeOne(
    object: string,
    operation: WriteOperation,
    { once, signal, fields }: { once: string; signal: AbortSignal; fields: AppField[] },
  ): Promise<WriteAnswer> {
    const described = this.described(object)
    const { op } = operation
    const how = described[op]
    if (!how)
      throw new Failure(
        'structural',
        `${this.name} cannot ${op} ${object}.`,
        'Choose something else that may happen.',
      )
    const presets = { create: 'POST', change: 'PATCH', remove: 'DELETE' } as const
    const id = 'id' in operation ? operation.id : ''
    const answer = await this.caller.call({
      method: how.method ?? presets[op],
      path: withId(how.path, id),
      ...(op === 'remove' ? {} : { body: jsonValues(operation.values, fields) }),
      headers: { ...this.onceHeader(once), ...this.versionHeader(described, operation) },
      writes: true,
      signal,
    })
    // What is gone already needs no removing.
    if (op === 'remove' && (answer.status === 404 || answer.status === 410)) return { answer: 'done', id }
    if (op === 'change' && (answer.status === 404 || answer.status === 410)) return { answer: 'gone' }
    if (
      op === 'change' &&
      (answer.status === 412 || (operation.version !== undefined && answer.status === 409))
    )
      return { answer: 'changed' }
    if (answer.status >= 400) {
      const { field } = Object(answer.body) as { field?: unknown }
      return {
        answer: 'refused',
        field: typeof field === 'string' ? field : null,
        reason: saidIn(answer.body),
      }
    }
    if (op === 'remove') return { answer: 'done', id }
    const item = 'item' in how ? (how.item ?? '') : ''
    const made = op === 'create' ? textOf(at(answer.body, `${item}/${described.key}`)) : id
    return { answer: 'done', id: made, ...recordIn(answer.body, item, described.key, fields) }
  }

  get webhooks(): WebhookSigning | undefined {
    return this.description.webhooks?.signed
  }

  async subscribe(
    object: string,
    { url, secret, signal }: { url: string; secret: string; signal: AbortSignal },
  ): Promise<string> {
    const { webhooks } = this.description
    if (!webhooks) throw new Error(`${this.name} calls nobody`)
    const { path, method = 'POST', body } = webhooks.subscribe
    const answer = await this.caller.call({
      method,
      path,
      body: filled(body, { url, secret, object }),
      writes: true,
      signal,
    })
    const id = textOf(this.understood.at(answer, 'a subscription', webhooks.id))
    if (id !== null) return id
    throw new Failure(
      'structural',
      `${this.name} does not say what its subscription is called.`,
      'Correct “webhooks.id” in the description.',
    )
  }

  async unsubscribe(subscription: string, signal: AbortSignal): Promise<void> {
    const remove = this.description.webhooks?.remove
    if (!remove) return
    const { path, method = 'DELETE' } = remove
    const answer = await this.caller.call({ method, path: withId(path, subscription), writes: true, signal })
    if (answer.status !== 404 && answer.status !== 410)
      this.understood.at(answer, 'the end of a subscription', '')
  }

  private versionHeader({ version }: DescribedRecords, operation: WriteOperation): Record<string, string> {
    if (operation.op !== 'change' || operation.version === undefined || version?.header === undefined)
      return {}
    // An entity tag: https://www.rfc-editor.org/rfc/rfc9110#field.etag
    return { [version.header]: `"${operation.version}"` }
  }

  private onceHeader(once: string): Record<string, string> {
    const { idempotency } = this.description
    return idempotency === undefined ? {} : { [idempotency]: once }
  }

  private described(object: string): DescribedRecords {
    const { objects } = this.description
    if (this.isDescribed(object)) return objects[object]!
    if (this.discovery) return this.discovery.recordsOf(object)
    throw new Failure(
      'structural',
      `${this.name} has no object “${object}” any more.`,
      `Choose one that it has: ${Object.keys(objects).join(', ')}.`,
    )
  }

  private async fields(object: string): Promise<AppField[]> {
    if (this.discovery && !this.isDescribed(object)) return this.discovery.fields(object)
    return (await this.describedObjects()).find(({ name }) => name === object)!.fields
  }

  /** Throws a Failure where a field was taken away that the records had. */
  private async recordsIn(object: string, told: readonly unknown[]): Promise<AppRecord[]> {
    const fields = await this.fields(object)
    if (this.discovery && !this.isDescribed(object)) await this.discovery.stillThere(object, told, fields)
    return told.map(one => recordOf(one, fields))
  }
}

/** Whatever the key holds, it stays one part of the path. */
function withId(path: string, id: string): string {
  return path.replaceAll('{id}', encodeURIComponent(id))
}

function nextLink(header: string | null): string | undefined {
  for (const link of header?.split(/,(?=\s*<)/) ?? []) {
    const found = /^\s*<([^>]*)>(.*)$/.exec(link)
    if (found && /;\s*rel="?next"?/i.test(found[2]!)) return found[1]
  }
  return undefined
}

function stuck(app: string, object: string): Failure {
  return new Failure(
    'structural',
    `${app} sends the same page of ${object} again and again.`,
    'Correct “paging” in the description.',
  )
}

/** Numbers of a document are few and small. */
function plain(value: unknown): unknown {
  return value === undefined ? undefined : (JSON.parse(stringify(value)!) as unknown)
}
