/** Tables that people make for themselves in a stand-in app, and fields of them; what was made is kept beside the records. */
import { readFileSync, renameSync, writeFileSync } from 'node:fs'
import type { StandInAppDefinition, StandInField, StandInObject } from './definition.ts'
import { NotTaken } from './not-taken.ts'

/** What the app calls the types of fields that people make. */
const MADE_TYPES: Record<string, Pick<StandInField, 'type' | 'format' | 'maxLength'>> = {
  text: { type: 'string', maxLength: 2000 },
  choice: { type: 'string' },
  tags: { type: 'array' },
  'whole number': { type: 'integer' },
  number: { type: 'number' },
  date: { type: 'string', format: 'date' },
  time: { type: 'string', format: 'date-time' },
  'e-mail': { type: 'string', format: 'email' },
  'yes or no': { type: 'boolean' },
}

export const MADE_TYPE_NAMES = Object.keys(MADE_TYPES)

interface MadeField {
  title: string
  type: string
  choices: string[] | null
}

/** By table: fields that were made, null where one was taken away; `title`: of a table that was made. */
interface Kept {
  title?: string
  fields: Record<string, MadeField | null>
}

const LONGEST_TITLE = 80

export class Tables {
  private readonly definition: StandInAppDefinition
  private readonly file: string
  private readonly kept: Record<string, Kept>

  /** `definition`: of this app alone; its objects become more. */
  constructor(definition: StandInAppDefinition, file: string) {
    this.definition = definition
    this.file = file
    this.kept = keptIn(file)
    for (const [name, { title, fields }] of Object.entries(this.kept)) {
      if (title !== undefined) this.definition.objects.push(tableOf(name, title))
      for (const [field, made] of Object.entries(fields)) this.put(name, field, made)
    }
  }

  /** Comments are none. */
  all(): StandInObject[] {
    return this.definition.objects.filter(({ remarks }) => !remarks)
  }

  get(name: string | undefined): StandInObject {
    const found = this.all().find(one => one.name === name)
    if (found) return found
    throw new NotTaken(null, 'not_found', `There is no table ${name}.`)
  }

  makeTable(asked: unknown): StandInObject {
    const { title: given, fields } = Object(asked) as { title?: unknown; fields?: unknown }
    const title = titleIn(given)
    if (this.all().some(one => titleOf(one) === title))
      throw new NotTaken('title', 'taken', `There is a table “${title}” already.`)
    const made = (Array.isArray(fields) ? fields : []).map(fieldIn)
    const name = freeName(
      title,
      this.definition.objects.map(one => one.name),
    )
    this.kept[name] = { title, fields: {} }
    const table = tableOf(name, title)
    this.definition.objects.push(table)
    for (const field of made) this.addTo(table, field)
    this.write()
    return table
  }

  /** Returns what it is called. */
  makeField(name: string | undefined, asked: unknown): string {
    const table = this.get(name)
    if (table.view) throw new NotTaken(null, 'read_only', 'A view has the fields of its table.')
    const field = this.addTo(table, fieldIn(asked))
    this.write()
    return field
  }

  removeField(name: string | undefined, field: string | undefined): void {
    const table = this.get(name)
    const found = Object.hasOwn(table.fields, field ?? '') ? table.fields[field!] : undefined
    if (!found || found.required)
      throw new NotTaken(null, 'not_found', `${titleOf(table)} have no field ${field} that could go.`)
    this.keptOf(table.name).fields[field!] = null
    this.put(table.name, field!, null)
    this.write()
  }

  /** As its interface tells them. */
  told(table: StandInObject): object {
    const own = (id: string, type: string) => ({ id, title: id, type, read_only: true })
    const [label] = Object.keys(table.fields)
    return {
      id: table.name,
      title: titleOf(table),
      kind: table.view ? 'view' : 'table',
      ...(table.view ? { read_only: true } : {}),
      label: label ?? null,
      fields: [
        own('id', 'key'),
        ...Object.keys(table.fields).map(name => this.toldField(table, name)),
        own('version', 'whole number'),
        own('created_at', 'time'),
        own('updated_at', 'time'),
      ],
    }
  }

  toldField({ fields, view }: StandInObject, name: string): object {
    const field = fields[name]!
    const { title = name, required, unique, enum: choices, maxLength, refers } = field
    return {
      id: name,
      title,
      type: typeNameOf(field),
      required: required ?? false,
      read_only: Boolean(field.readOnly ?? field.computed ?? field.maker ?? view),
      unique: unique ?? false,
      choices: choices ?? null,
      longest: maxLength ?? null,
      links_to: refers ?? null,
    }
  }

  private addTo(table: StandInObject, field: MadeField): string {
    if (Object.values(table.fields).some(({ title }) => title === field.title))
      throw new NotTaken('title', 'taken', `There is a field “${field.title}” already.`)
    const name = freeName(field.title, [
      'id',
      'version',
      'created_at',
      'updated_at',
      ...Object.keys(table.fields),
    ])
    this.keptOf(table.name).fields[name] = field
    this.put(table.name, name, field)
    return name
  }

  private keptOf(table: string): Kept {
    return (this.kept[table] ??= { fields: {} })
  }

  private put(table: string, name: string, made: MadeField | null): void {
    const { fields } = this.definition.objects.find(one => one.name === table)!
    if (!made) delete fields[name]
    else
      fields[name] = {
        ...MADE_TYPES[made.type]!,
        title: made.title,
        ...(made.choices ? { enum: made.choices } : {}),
      }
  }

  private write(): void {
    writeFileSync(`${this.file}.new`, JSON.stringify(this.kept))
    renameSync(`${this.file}.new`, this.file)
  }
}

export function titleOf({ title, schema }: StandInObject): string {
  return title ?? schema
}

function typeNameOf({ type, format, enum: choices, refers, computed, files }: StandInField): string {
  if (computed) return 'formula'
  if (refers !== undefined) return 'link'
  if (type === 'array') return files ? 'attachments' : 'tags'
  if (choices) return 'choice'
  const found = Object.entries(MADE_TYPES).find(
    ([name, made]) => made.type === type && made.format === format && name !== 'choice',
  )
  return found?.[0] ?? 'text'
}

function tableOf(name: string, title: string): StandInObject {
  return { name, title, schema: title, prefix: `${name}_`, first: 1, batch: 10, findBy: [], fields: {} }
}

function titleIn(given: unknown): string {
  if (typeof given === 'string' && given.trim() !== '' && given.length <= LONGEST_TITLE) return given.trim()
  throw new NotTaken('title', 'required', `A title has up to ${LONGEST_TITLE} characters.`)
}

function fieldIn(asked: unknown): MadeField {
  const { title, type, choices } = Object(asked) as Record<string, unknown>
  if (typeof type !== 'string' || !Object.hasOwn(MADE_TYPES, type))
    throw new NotTaken('type', 'not_a_choice', `A field is one of: ${MADE_TYPE_NAMES.join(', ')}.`)
  const known = Array.isArray(choices) && choices.every(one => typeof one === 'string') ? choices : null
  if (type === 'choice' && !known) throw new NotTaken('choices', 'required', 'A choice field has choices.')
  return { title: titleIn(title), type, choices: type === 'choice' ? known : null }
}

function freeName(title: string, taken: readonly string[]): string {
  const plain = title
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, '_')
    .replace(/^_+|_+$/g, '')
  const name = plain === '' ? 'field' : plain
  let free = name
  for (let n = 2; taken.includes(free); n++) free = `${name}_${n}`
  return free
}

function keptIn(file: string): Record<string, Kept> {
  try {
    return JSON.parse(readFileSync(file, 'utf8')) as Record<string, Kept>
  } catch {
    return {} // the first time
  }
}
