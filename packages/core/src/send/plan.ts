/** What stands in the way of a pipeline that sends, or is to be known before it does. */
import type { AppField, AppObject } from '../app/object.ts'
import { mayChange, mayCreate, mayRemove, type FieldPair, type SendDefinition } from '../definition/send.ts'
import { compileExpression, isFault } from '../expression/compile.ts'
import { byHarm, someOf, type PlanNote } from '../plan/note.ts'
import { printType, type LogicalType } from '../records/types.ts'
import { noHash, type SentColumn } from './mapped.ts'
import { templateParts } from './template.ts'

export interface SendNote extends Pick<PlanNote, 'level' | 'message' | 'remedy'> {
  /** Which section of the setup answers it. */
  section: 'name' | 'what' | 'where' | 'meets' | 'may' | 'fields'
  /** The field that it is about. */
  field?: string
}

export interface SendInput {
  definition: SendDefinition
  /** Of what is sent; undefined: it is not known yet. */
  columns: readonly SentColumn[] | undefined
  /** What the app has; undefined: none is chosen. */
  objects: readonly AppObject[] | undefined
  /** What the app is called. */
  app: string
  /** Other pipelines that send to the same place. */
  others?: readonly SendDefinition[]
}

/** In order of harm; a definition without refusals can be sent by. */
export function planSend({ definition, columns, objects, app, others = [] }: SendInput): SendNote[] {
  const notes: SendNote[] = []
  const refuse = (section: SendNote['section'], message: string, remedy: string, field?: string) =>
    notes.push({ level: 'refused', section, message, remedy, ...(field === undefined ? {} : { field }) })
  const undecided = (section: SendNote['section'], message: string, remedy: string) =>
    notes.push({ level: 'undecided', section, message, remedy })
  const { name, what, key, object: objectName, meets, fields, may } = definition
  if (name.trim() === '') undecided('name', 'The pipeline has no name.', 'Give it one.')
  if (!what)
    undecided('what', 'It is not said what is sent.', 'Choose a saved query or a table, or write SQL.')
  const object = objects?.find(one => one.name === objectName)
  if (!objects) undecided('where', 'No app is chosen.', 'Choose a connection to one.')
  else if (objectName === '') undecided('where', 'No object is chosen.', `Choose what of ${app} is written.`)
  else if (!object)
    refuse(
      'where',
      `${app} has no object “${objectName}” any more.`,
      `It has ${someOf(objects.map(one => one.name))}.`,
    )
  if (columns) {
    const names = new Set(columns.map(column => column.name))
    const missing = (column: string) => !names.has(column)
    if (key.length === 0)
      undecided('what', 'No row key is chosen.', 'Say which columns tell a row from all others.')
    for (const column of key.filter(missing))
      refuse(
        'what',
        `The row key’s column “${column}” is not among the columns.`,
        `There are ${someOf([...names])}.`,
      )
    for (const { column } of meets.filter(({ column }) => missing(column)))
      refuse(
        'meets',
        `The match key’s column “${column}” is not among the columns.`,
        `There are ${someOf([...names])}.`,
      )
  }
  if (object) {
    planObject(object, definition, app, refuse, undecided)
    planFields(object, definition, columns, refuse)
    if (mayRemove(definition))
      notes.push({
        level: 'loss',
        section: 'may',
        message: `Records that are no longer in the result are removed from ${app}; only those that this pipeline has sent.`,
        remedy: 'To leave them there, choose “create and change”.',
      })
    for (const other of others) {
      const both = fields.filter(({ field }) => other.fields.some(one => one.field === field))
      if (both.length === 0) continue
      notes.push({
        level: 'warning',
        section: 'fields',
        message: `“${other.name}” sends to ${object.title}, too: ${someOf(both.map(({ field }) => field))}.`,
        remedy: 'Where both send the same record, the last one wins. Let each field be sent by one of them.',
      })
    }
    const unset = fields.filter(({ once }) => !once).map(({ field }) => field)
    if (mayChange(definition) && fields.length > 0 && unset.length === 0)
      notes.push({
        level: 'warning',
        section: 'fields',
        message: 'Every field is set only when a record is made, so that nothing is ever changed.',
        remedy:
          may === 'change'
            ? 'Let some of them be changed.'
            : 'Choose “create” instead, or let some of them be changed.',
      })
  }
  return notes.sort(byHarm)
}

type Refuse = (section: SendNote['section'], message: string, remedy: string, field?: string) => void

function planObject(
  object: AppObject,
  definition: SendDefinition,
  app: string,
  refuse: Refuse,
  undecided: (section: SendNote['section'], message: string, remedy: string) => void,
): void {
  const { meets } = definition
  const { can, title, fields } = object
  if (mayCreate(definition) && !can.create)
    refuse('may', `${app} lets nobody create ${title}.`, 'Choose “change” alone.')
  if (mayChange(definition) && definition.may !== 'make identical' && !can.change)
    refuse('may', `${app} lets nobody change ${title}.`, 'Choose “create” alone.')
  if (mayRemove(definition) && !can.remove)
    refuse('may', `${app} lets nobody remove ${title}.`, 'Choose “create and change”.')
  for (const { field } of meets) {
    if (!fields.some(({ name }) => name === field))
      refuse(
        'meets',
        `${title} have no field “${field}” to meet by.`,
        `They have ${someOf(fields.map(one => one.name))}.`,
      )
  }
  if (meets.length > 0 && !can.list)
    refuse(
      'meets',
      `${app} does not tell its ${title}, so that none can be met.`,
      'Take the match keys out: our own record of what was sent serves.',
    )
  if (meets.length === 0 && can.list && !mayCreate(definition))
    undecided('meets', 'It is not said how rows and records meet.', 'Choose a match key.')
}

function planFields(
  object: AppObject,
  definition: SendDefinition,
  columns: readonly SentColumn[] | undefined,
  refuse: Refuse,
): void {
  const { fields: pairs } = definition
  const { title, fields } = object
  if (pairs.length === 0)
    refuse('fields', 'No field is sent.', 'Join columns and fields, or take what is proposed.')
  const seen = new Set<string>()
  for (const pair of pairs) {
    const field = fields.find(({ name }) => name === pair.field)
    if (!field) {
      refuse(
        'fields',
        `${title} have no field “${pair.field}”.`,
        `They have ${someOf(fields.map(one => one.name))}.`,
        pair.field,
      )
      continue
    }
    if (seen.has(pair.field))
      refuse('fields', `“${pair.field}” is set twice.`, 'Take one of them out.', pair.field)
    seen.add(pair.field)
    if (field.readOnly)
      refuse('fields', `The app lets nobody write “${pair.field}”.`, 'Take it out.', pair.field)
    if (field.required && pair.empty === 'clear')
      refuse(
        'fields',
        `“${pair.field}” is required, and cannot be emptied.`,
        'Leave it where a row has nothing.',
        pair.field,
      )
    if (pair.by !== undefined && field.refers === null)
      refuse(
        'fields',
        `“${pair.field}” refers to no other object.`,
        'Take out by what its record is found.',
        pair.field,
      )
    if (columns) planFrom(pair, field, columns, refuse)
  }
  if (!mayCreate(definition)) return
  for (const field of fields.filter(({ required, name }) => required && !seen.has(name)))
    refuse(
      'fields',
      `“${field.name}” is required, and nothing is sent to it.`,
      'Join a column to it, or give it a constant.',
      field.name,
    )
}

function planFrom(pair: FieldPair, field: AppField, columns: readonly SentColumn[], refuse: Refuse): void {
  const { from } = pair
  const refuseHere = (message: string, remedy: string) => refuse('fields', message, remedy, pair.field)
  const names = columns.map(({ name }) => name)
  const types = (type: LogicalType) => {
    const why = pair.by === undefined ? cannotMeet(type, field) : undefined
    if (why)
      refuseHere(
        `“${pair.field}” takes ${printType(field.type)}; ${why}.`,
        'Turn it with an expression, or join another.',
      )
  }
  if ('column' in from) {
    const column = columns.find(({ name }) => name === from.column)
    if (!column)
      return refuseHere(
        `“${pair.field}” is to get the column “${from.column}”, which is not there.`,
        `There are ${someOf(names)}.`,
      )
    types(column.type)
  } else if ('template' in from) {
    const parts = templateParts(from.template)
    if (!parts)
      return refuseHere(
        `In the template of “${pair.field}” a brace stands alone.`,
        'Write {column} for a value, and {{ for a brace.',
      )
    for (const part of parts)
      if ('column' in part && !names.includes(part.column))
        refuseHere(
          `The template of “${pair.field}” names the column “${part.column}”, which is not there.`,
          `There are ${someOf(names)}.`,
        )
  } else if ('expression' in from) {
    const compiled = compileExpression(from.expression, columns, noHash)
    if (isFault(compiled))
      return refuseHere(`The expression of “${pair.field}”: ${compiled.message}`, compiled.remedy)
    if (compiled.hashes)
      return refuseHere(
        `The expression of “${pair.field}” hashes, which is for masks at tables.`,
        'Take hash() out.',
      )
    types(compiled.type)
  }
}

/** Why no value of the type fits; undefined: some do, and each is held against the field. */
function cannotMeet(type: LogicalType, field: AppField): string | undefined {
  const { kind } = field.type
  const isText = ['utf8', 'other', 'uuid', 'json'].includes(type.kind)
  if (isText) return undefined
  const fits: Partial<Record<LogicalType['kind'], LogicalType['kind'][]>> = {
    int: ['int', 'decimal', 'float'],
    decimal: ['int', 'decimal', 'float'],
    float: ['int', 'decimal', 'float'],
    bool: ['bool'],
    date: ['date', 'timestamp'],
    timestamp: ['date', 'timestamp'],
    list: ['list'],
  }
  const taken = fits[kind]
  return taken && !taken.includes(type.kind) ? `the column is ${printType(type)}` : undefined
}
