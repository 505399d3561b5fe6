/** Objects that people make for themselves in an app: it is asked which there are, and makes others. */
import type { DescribedRecords } from '@tide/core/app/described-records'
import type { DescribedDiscovery } from '@tide/core/app/discovery'
import { jsonType } from '@tide/core/app/json-type'
import { LINKS, objectOf, type AppField, type AppObject } from '@tide/core/app/object'
import { Failure } from '@tide/core/failure'
import type { ToMake, MakeAsked } from '../contract/app.ts'
import type { Caller } from './caller.ts'
import { LONGEST_NAME, Making, withObject } from './making.ts'
import { Understood } from './understood.ts'
import { at, isSaid, textOf } from './values.ts'

/** For so long nobody is asked again which objects there are. */
const KNOWN_MS = 5_000

export class Discovery {
  private readonly described: DescribedDiscovery
  private readonly caller: Caller
  private readonly understood: Understood
  private readonly app: string
  private known: { at: number; objects: Promise<AppObject[]> } | undefined

  constructor(app: string, described: DescribedDiscovery, caller: Caller) {
    this.app = app
    this.described = described
    this.caller = caller
    this.understood = new Understood(app)
  }

  /** How records of one are reached. */
  recordsOf(object: string): DescribedRecords {
    const { records } = this.described
    const parts = Object.entries(records).map(([name, part]) => [
      name,
      typeof part === 'object' && 'path' in part ? { ...part, path: withObject(part.path, object) } : part,
    ])
    return Object.fromEntries(parts) as DescribedRecords
  }

  objects(): Promise<AppObject[]> {
    const now = Date.now()
    if (this.known && now - this.known.at < KNOWN_MS) return this.known.objects
    return this.anew()
  }

  /** As they were when they were asked for last. Throws a Failure for an object that is not there. */
  async fields(object: string): Promise<AppField[]> {
    const found = (await (this.known?.objects ?? this.anew())).find(({ name }) => name === object)
    return (found ?? (await this.fresh(object))).fields
  }

  /** Of a field that somebody has taken away nothing was emptied: throws a Failure. `records`: as they came. */
  async stillThere(object: string, records: readonly unknown[], fields: readonly AppField[]): Promise<void> {
    if (records.length === 0) return
    const missing = fields.filter(
      ({ name }) => !records.some(one => Object.hasOwn(Object(one) as object, name)),
    )
    if (missing.length === 0) return
    const { fields: there, title } = await this.fresh(object)
    const gone = missing.filter(({ name }) => !there.some(one => one.name === name))
    if (gone.length === 0) return
    throw new Failure(
      'structural',
      `${title} of ${this.app} have no ${gone.map(one => `“${one.title}”`).join(', ')} any more.`,
      'Take it out of the setup, or put it there again and join it; then continue. Nothing was emptied.',
    )
  }

  private async fresh(object: string): Promise<AppObject> {
    const objects = await this.anew()
    const found = objects.find(({ name }) => name === object)
    if (found) return found
    throw new Failure(
      'structural',
      `${this.app} has no object “${object}” any more.`,
      `Choose one that it has: ${objects.map(({ title }) => title).join(', ')}.`,
    )
  }

  private anew(): Promise<AppObject[]> {
    const objects = this.read()
    this.known = { at: Date.now(), objects }
    objects.catch(() => (this.known = undefined))
    return objects
  }

  private async read(): Promise<AppObject[]> {
    const { list, fields } = this.described
    const { signal } = new AbortController()
    const answer = await this.caller.call({ method: 'GET', path: list.path, signal })
    const found: AppObject[] = []
    for (const one of this.understood.list(
      answer,
      'the list of objects',
      list.items,
      'discovery.list.items',
    )) {
      const name = this.understood.name(at(one, list.id), 'an object', 'discovery.list.id', LONGEST_NAME)
      const told =
        fields.path === undefined
          ? { status: 200, body: one }
          : await this.caller.call({ method: 'GET', path: withObject(fields.path, name), signal })
      const what = `the fields of ${name}`
      const all = this.understood.list(told, what, fields.items, 'discovery.fields.items')
      found.push(
        this.objectIn(
          name,
          one,
          all.map(field => this.fieldIn(field)),
        ),
      )
    }
    return found
  }

  private objectIn(name: string, told: unknown, fields: AppField[]): AppObject {
    const { list, records } = this.described
    const { key } = records
    if (!fields.some(one => one.name === key))
      throw this.understood.otherwise(`${name} without its key “${key}”`, 'discovery.records.key')
    const object = objectOf(
      {
        name,
        title: said(told, list.title) ?? name,
        label: fields.find(one => one.name === said(told, list.label))?.name ?? null,
        fields,
      },
      records,
    )
    if (!saysSo(told, list.readOnly)) return object
    return { ...object, can: { ...object.can, create: false, change: false, remove: false } }
  }

  private fieldIn(told: unknown): AppField {
    const { fields, types } = this.described
    const name = this.understood.name(at(told, fields.id), 'a field', 'discovery.fields.id', LONGEST_NAME)
    const native = said(told, fields.type) ?? ''
    const type = Object.hasOwn(types, native) ? types[native]! : undefined
    const readOnly = type === undefined || type.link !== undefined || saysSo(told, fields.readOnly)
    const choices = fields.choices === undefined ? undefined : at(told, fields.choices)
    const longest = Number(said(told, fields.maxLength) ?? 'none')
    return {
      name,
      title: said(told, fields.title) ?? name,
      type: type?.is === 'set' ? LINKS : jsonType(type?.is ?? '', type?.format),
      nativeType: native,
      required: !readOnly && saysSo(told, fields.required),
      readOnly,
      choices: Array.isArray(choices) ? choices.map(one => textOf(one) ?? '') : null,
      maxLength: Number.isSafeInteger(longest) ? longest : null,
      unique: saysSo(told, fields.unique),
      refers: said(told, fields.refers) ?? null,
      email: type?.format === 'email',
      ...(type?.link === undefined ? {} : { link: type.link }),
    }
  }

  get makes(): boolean {
    return this.described.make !== undefined
  }

  toMake(asked: MakeAsked): ToMake {
    const planned = new Making(this.app, this.described, this.caller).toMake(asked)
    return {
      ...planned,
      // Some of it may be there by then, whatever fails.
      make: signal => planned.make(signal).finally(() => (this.known = undefined)),
    }
  }
}

function said(told: unknown, pointer: string | undefined): string | undefined {
  return pointer === undefined ? undefined : (textOf(at(told, pointer)) ?? undefined)
}

function saysSo(told: unknown, pointer: string | undefined): boolean {
  return pointer !== undefined && isSaid(at(told, pointer))
}
