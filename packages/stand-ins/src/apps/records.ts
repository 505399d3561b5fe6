/** The records of a stand-in app, kept over restarts: a line for each change, and all of them anew at a start. */
import { appendFileSync, mkdirSync, readFileSync, renameSync, writeFileSync } from 'node:fs'
import { dirname } from 'node:path'
import type {
  JsonValue,
  StandInAppDefinition,
  StandInField,
  StandInObject,
  StandInRecord,
} from './definition.ts'
import { NotTaken } from './not-taken.ts'
import { Tables } from './tables.ts'

interface Line {
  object: string
  id: string
  /** null: it is gone. */
  record: StandInRecord | null
  /** Of one that is gone: when. */
  at?: string
}

/** `n`: which deletion of its object it was. */
export interface Deletion {
  id: string
  at: string
  n: number
}

/** So many deletions of an object are remembered. */
const REMEMBERED = 1_000

/** The app tells times no finer. */
function toTheSecond(): string {
  return `${new Date().toISOString().slice(0, 19)}Z`
}

export type Given = Record<string, unknown>

const EMAIL = /^[^\s@<>,;]+@[^\s@<>,;.]+(\.[^\s@<>,;.]+)+$/

export class Records {
  /** Its own: people can make more of it. */
  readonly app: StandInAppDefinition
  readonly tables: Tables
  readonly file: string
  private readonly all = new Map<string, Map<string, StandInRecord>>()
  /** By object and field or fields: whose a value is. */
  private readonly holders = new Map<string, Map<string, string>>()
  private numbers = new Map<string, number>()
  private readonly gone = new Map<string, Deletion[]>()
  /** Told of every record that changes, comes or goes. */
  changed: (object: string, id: string) => void = () => {}
  /** Fields that nobody may write just now. */
  readonly locked = new Set<string>()

  /** `fill`: what is there when there was nothing. */
  constructor(app: StandInAppDefinition, file: string, fill: (records: Records) => void) {
    this.app = { ...app, objects: app.objects.map(one => ({ ...one, fields: { ...one.fields } })) }
    this.file = file
    mkdirSync(dirname(file), { recursive: true })
    this.tables = new Tables(this.app, `${file}.tables`)
    const lines = this.read()
    for (const { object, id, record, at } of lines) {
      if (!this.app.objects.some(({ name }) => name === object)) continue
      const records = this.in(object)
      if (record) records.set(id, record)
      else records.delete(id)
      if (!record && at !== undefined) this.remember(object, id, at)
    }
    for (const object of this.app.objects)
      if (!object.view) for (const record of this.of(object.name)) this.hold(object, record)
    if (lines.length === 0) fill(this)
    this.writeAll()
  }

  of(object: string): StandInRecord[] {
    const { view } = this.app.objects.find(({ name }) => name === object) ?? {}
    if (view) return this.of(view.of).filter(view.shows)
    return [...(this.all.get(object)?.values() ?? [])]
  }

  private in(object: string): Map<string, StandInRecord> {
    let records = this.all.get(object)
    if (!records) this.all.set(object, (records = new Map()))
    return records
  }

  get(object: string, id: string): StandInRecord | undefined {
    return this.all.get(object)?.get(id)
  }

  /** As the app shows it: with the fields that there are now. */
  shown({ name }: StandInObject, record: StandInRecord): StandInRecord {
    const { fields } = this.app.objects.find(one => one.name === name)!
    const values = Object.entries(fields).map(([field, { computed, type }]) => [
      field,
      computed
        ? computed(record, other => this.of(other))
        : (record[field] ?? (type === 'array' ? [] : null)),
    ])
    const { id, version, created_at, updated_at } = record
    return {
      id,
      ...(Object.fromEntries(values) as Record<string, JsonValue>),
      version: version ?? null,
      created_at: created_at ?? null,
      updated_at: updated_at ?? null,
    }
  }

  /** `by`: who makes it. */
  create(object: StandInObject, given: Given, by = 'a program'): StandInRecord {
    const values = this.taken(object, given)
    for (const [name, { maker }] of Object.entries(object.fields)) if (maker) values[name] = by
    for (const [name, field] of Object.entries(object.fields))
      if (field.required && (values[name] ?? null) === null)
        throw new NotTaken(name, 'required', `${field.title ?? name} is required.`)
    const now = toTheSecond()
    const id = this.nextId(object)
    const empty = Object.fromEntries(
      Object.entries(object.fields).flatMap(([name, { computed, type }]) =>
        computed ? [] : [[name, type === 'array' ? [] : null]],
      ),
    )
    const record: StandInRecord = { ...empty, ...values, id, version: 1, created_at: now, updated_at: now }
    this.refuseDoubles(object, record)
    this.put(object, record)
    return record
  }

  /** `version`: of which the change is; undefined: of whatever there is. */
  change(object: StandInObject, id: string, given: Given, version?: number): StandInRecord {
    const present = this.get(object.name, id)
    if (!present) throw new NotTaken(null, 'not_found', `There is no ${object.schema} ${id}.`)
    if (version !== undefined && version !== present.version)
      throw new NotTaken(null, 'changed', `${object.schema} ${id} was changed meanwhile.`)
    const values = this.taken(object, given)
    for (const [name, value] of Object.entries(values))
      if (value === null && object.fields[name]!.required)
        throw new NotTaken(name, 'required', `${object.fields[name]!.title ?? name} is required.`)
    const record = {
      ...present,
      ...values,
      version: Number(present.version ?? 0) + 1,
      updated_at: toTheSecond(),
    }
    this.refuseDoubles(object, record)
    this.put(object, record)
    return record
  }

  remove(object: StandInObject, id: string): void {
    const present = this.get(object.name, id)
    if (!present) throw new NotTaken(null, 'not_found', `There is no ${object.schema} ${id}.`)
    for (const other of this.app.objects) {
      const { field } = other.remarks ?? {}
      if (field === undefined || other.fields[field]!.refers !== object.name) continue
      for (const remark of this.of(other.name)) if (remark[field] === id) this.remove(other, remark.id)
    }
    this.letGo(object, present)
    this.in(object.name).delete(id)
    const at = toTheSecond()
    this.remember(object.name, id, at)
    this.append({ object: object.name, id, record: null, at })
    this.changed(object.name, id)
  }

  /** The earliest first. */
  goneOf(object: string): readonly Deletion[] {
    return this.gone.get(object) ?? []
  }

  private remember(object: string, id: string, at: string): void {
    const gone = this.goneOf(object)
    this.gone.set(object, [...gone, { id, at, n: (gone.at(-1)?.n ?? 0) + 1 }].slice(-REMEMBERED))
  }

  /** The record that has these values in the fields that say which it is. */
  having(object: StandInObject, values: Given): StandInRecord | undefined {
    const [key] = keysOf(object, values as StandInRecord).filter(([, value]) => value !== null)
    const id = key && this.holders.get(key[0])?.get(key[1]!)
    return id === undefined ? undefined : this.get(object.name, id)
  }

  private taken(object: StandInObject, given: Given): Record<string, JsonValue> {
    return Object.fromEntries(
      Object.entries(given).map(([name, value]) => {
        const field = Object.hasOwn(object.fields, name) ? object.fields[name] : undefined
        if (!field) throw new NotTaken(name, 'unknown_field', `${object.schema} has no field ${name}.`)
        if (field.readOnly || field.computed || field.maker || this.locked.has(name))
          throw new NotTaken(name, 'read_only', `${field.title ?? name} cannot be written.`)
        return [name, this.value(name, field, value)]
      }),
    )
  }

  private value(name: string, field: StandInField, value: unknown): JsonValue {
    if (value === null || value === undefined) return field.type === 'array' ? [] : null
    const title = field.title ?? name
    const wrong = (code: string, message: string) => new NotTaken(name, code, message)
    if (field.type === 'array') {
      const given = field.files && Array.isArray(value) ? value.map(addressOf) : value
      if (!Array.isArray(given) || !given.every(one => typeof one === 'string'))
        throw wrong('wrong_type', `${title} must be a list of ${field.files ? 'files with a url' : 'texts'}.`)
      const elements = new Set(given.map(one => one.trim()).filter(one => one !== ''))
      const strange = [...elements].find(one => field.enum && !field.enum.includes(one))
      if (strange !== undefined) throw wrong('not_a_choice', `${title} knows no “${strange}”.`)
      // In an order of its own.
      return [...elements].sort()
    }
    if (field.type !== 'string') {
      const fits =
        field.type === 'boolean'
          ? typeof value === 'boolean'
          : typeof value === 'number' && (field.type === 'number' || Number.isInteger(value))
      if (!fits)
        throw wrong(
          'wrong_type',
          `${title} must be ${field.type === 'boolean' ? 'true or false' : `a ${field.type}`}.`,
        )
      return value as JsonValue
    }
    if (typeof value !== 'string') throw wrong('wrong_type', `${title} must be text.`)
    const text = field.normal ? field.normal(value) : value
    if (field.enum && !field.enum.includes(text)) throw wrong('not_a_choice', `${title} knows no “${text}”.`)
    if (field.maxLength !== undefined && [...text].length > field.maxLength)
      throw wrong('too_long', `${title} takes ${field.maxLength} characters, not ${[...text].length}.`)
    if (field.format === 'email' && !EMAIL.test(text))
      throw wrong('malformed', `${title}: “${text}” is no e-mail address.`)
    if (field.format === 'date' && !/^\d{4}-\d{2}-\d{2}$/.test(text))
      throw wrong('malformed', `${title}: “${text}” is no date.`)
    const refused = field.refuses?.(text)
    if (refused !== undefined) throw wrong('refused', `${title}: ${refused}`)
    if (field.refers !== undefined && !this.get(field.refers, text))
      throw wrong('unknown_reference', `${title}: there is no ${text}.`)
    return text
  }

  private refuseDoubles(object: StandInObject, record: StandInRecord): void {
    for (const [key, value, field] of keysOf(object, record)) {
      const holder = value === null ? undefined : this.holders.get(key)?.get(value)
      if (holder !== undefined && holder !== record.id)
        throw new NotTaken(
          field,
          'taken',
          `Another ${object.schema} has this ${object.fields[field]?.title ?? field} already.`,
        )
    }
  }

  private put(object: StandInObject, record: StandInRecord): void {
    const present = this.get(object.name, record.id)
    if (present) this.letGo(object, present)
    this.in(object.name).set(record.id, record)
    this.hold(object, record)
    this.append({ object: object.name, id: record.id, record })
    this.changed(object.name, record.id)
  }

  private hold(object: StandInObject, record: StandInRecord): void {
    for (const [key, value] of keysOf(object, record)) {
      if (value === null) continue
      let holders = this.holders.get(key)
      if (!holders) this.holders.set(key, (holders = new Map()))
      holders.set(value, record.id)
    }
    const number = Number(record.id.slice(object.prefix.length))
    this.numbers.set(object.name, Math.max(number, this.numbers.get(object.name) ?? 0))
  }

  private letGo(object: StandInObject, record: StandInRecord): void {
    for (const [key, value] of keysOf(object, record))
      if (value !== null) this.holders.get(key)?.delete(value)
  }

  private nextId(object: StandInObject): string {
    const number = (this.numbers.get(object.name) ?? (object.first ?? 1001) - 1) + 1
    this.numbers.set(object.name, number)
    return `${object.prefix}${number}`
  }

  private filling = true

  private append(line: Line): void {
    if (!this.filling) appendFileSync(this.file, `${JSON.stringify(line)}\n`)
  }

  private writeAll(): void {
    const own = this.app.objects.filter(({ view }) => !view)
    const lines = own.flatMap(({ name }) =>
      [
        ...this.goneOf(name).map(({ id, at }): Line => ({ object: name, id, record: null, at })),
        ...this.of(name).map((record): Line => ({ object: name, id: record.id, record })),
      ].map(line => JSON.stringify(line)),
    )
    writeFileSync(`${this.file}.new`, lines.map(line => `${line}\n`).join(''))
    renameSync(`${this.file}.new`, this.file)
    this.filling = false
  }

  private read(): Line[] {
    let text: string
    try {
      text = readFileSync(this.file, 'utf8')
    } catch {
      return [] // the first time
    }
    // A line that was being written when the process was killed has no end.
    const whole = text.slice(0, text.lastIndexOf('\n') + 1)
    return whole.split('\n').flatMap(line => (line === '' ? [] : [JSON.parse(line) as Line]))
  }
}

/** People write the address alone. */
function addressOf(file: unknown): unknown {
  return typeof file === 'string' ? file : (Object(file) as { url?: unknown }).url
}

/** What of a record nobody else may have: a name for it, its value, the field to blame. */
function keysOf(
  { name, fields, together }: StandInObject,
  record: StandInRecord,
): [string, string | null, string][] {
  const single = Object.entries(fields).flatMap(([field, { unique }]): [string, string | null, string][] => {
    const value = record[field] ?? null
    return unique ? [[`${name}.${field}`, value === null ? null : String(value), field]] : []
  })
  if (!together) return single
  const values = together.map(field => record[field] ?? null)
  const value = values.includes(null) ? null : JSON.stringify(values)
  return [...single, [`${name}.${together.join()}`, value, together.at(-1)!]]
}
