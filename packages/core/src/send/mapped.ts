/** A row as the record that it is to become. */
import type { AppField, AppObject } from '../app/object.ts'
import type { FieldPair, MatchKey, SendDefinition } from '../definition/send.ts'
import { compileExpression, isFault, type Expression } from '../expression/compile.ts'
import { NoValue } from '../expression/values.ts'
import type { Column } from '../records/column.ts'
import { fitted } from './fit.ts'
import { templateParts, type TemplatePart } from './template.ts'

export type SentColumn = Pick<Column, 'name' | 'type' | 'nullable'>

export interface Mapped {
  /** The row key; null: a part of it is missing. */
  key: string[] | null
  /** By field, in the definition's order; a field that is left as it is in the app is not among them. */
  values: Record<string, string | null>
  /** For each match key, what is to be found; null: nothing. */
  matches: (string | null)[]
  /** Why it cannot be sent. */
  problem: { field: string; reason: string; remedy: string } | null
}

/** By field: the key of the record that is called so. */
export type References = ReadonlyMap<string, ReadonlyMap<string, string>>

type Send = Pick<SendDefinition, 'key' | 'meets' | 'fields'>

interface Making {
  pair: FieldPair
  field: AppField
  make(row: readonly (string | null)[], landedAt: string): string | null
}

export type Mapper = (row: readonly (string | null)[], landedAt: string, byHand?: Mapped['values']) => Mapped

/**
 * For a definition without refusals. `references`: for each field whose records are found by a name. `byHand`: values that take the place of those
 * that are made of the row.
 */
export function mapper(
  { key, meets, fields }: Send,
  columns: readonly SentColumn[],
  object: AppObject,
  references: References,
): Mapper {
  const placeOf = (name: string) => columns.findIndex(column => column.name === name)
  const makings = fields.map((pair): Making => ({
    pair,
    field: object.fields.find(({ name }) => name === pair.field)!,
    make: makerOf(pair, columns),
  }))
  const keyPlaces = key.map(placeOf)
  const matching = meets.map(match => ({ match, place: placeOf(match.column) }))
  return (row, landedAt, byHand = {}) => {
    const parts = keyPlaces.map(place => row[place] ?? null)
    const values: Mapped['values'] = {}
    let problem: Mapped['problem'] = null
    for (const { pair, field, make } of makings) {
      try {
        const isSaid = Object.hasOwn(byHand, field.name)
        const made = isSaid ? byHand[field.name]! : make(row, landedAt)
        if (made === null) {
          if (isSaid && field.required) throw new Unfit('It is required.', 'Give it a value.')
          if (isSaid || pair.empty === 'clear') values[field.name] = null
          continue
        }
        values[field.name] = valueFor(field, pair, made, references)
      } catch (thrown) {
        if (!(thrown instanceof Unfit) && !(thrown instanceof NoValue)) throw thrown
        const remedy =
          thrown instanceof Unfit ? thrown.remedy : 'Correct the row at the source, or the expression.'
        problem ??= { field: field.name, reason: thrown.message, remedy }
      }
    }
    return {
      key: parts.includes(null) ? null : (parts as string[]),
      values,
      matches: matching.map(({ match, place }) => normal(row[place] ?? null, match)),
      problem,
    }
  }
}

class Unfit extends Error {
  readonly remedy: string
  constructor(reason: string, remedy: string) {
    super(reason)
    this.remedy = remedy
  }
}

function valueFor(field: AppField, { by }: FieldPair, made: string, references: References): string {
  if (field.refers !== null && by !== undefined) {
    const found = references.get(field.name)?.get(folded(made))
    if (found !== undefined) return found
    throw new Unfit(
      `There is no record of ${field.refers} whose ${by} is “${made}”, or there are several.`,
      'Make it in the app, or send it there first.',
    )
  }
  const fit = fitted(made, field)
  if ('text' in fit) return fit.text
  throw new Unfit(fit.reason, fit.remedy)
}

/** As match keys are compared: both sides are made alike by the same. */
export function normal(value: string | null, { alike }: Pick<MatchKey, 'alike'>): string | null {
  if (value === null) return null
  const text = alike === 'exactly' ? value : folded(value)
  return text === '' ? null : text
}

/** Without what people write one way or another. */
export function folded(text: string): string {
  return text.normalize('NFC').trim().replace(/\s+/g, ' ').toLowerCase()
}

function makerOf(pair: FieldPair, columns: readonly SentColumn[]): Making['make'] {
  const { from } = pair
  const placeOf = (name: string) => columns.findIndex(column => column.name === name)
  if ('column' in from) {
    const place = placeOf(from.column)
    return row => row[place] ?? null
  }
  if ('constant' in from) return () => from.constant
  if ('template' in from) {
    const parts = templateParts(from.template)!
    return row => templated(parts, name => row[placeOf(name)] ?? null)
  }
  const compiled = compileExpression(from.expression, columns, noHash)
  if (isFault(compiled))
    throw new Error(`an expression that the plan should have refused: ${compiled.message}`)
  return (row, landedAt) => computed(compiled, row, landedAt)
}

/** Nothing, where none of its columns has a value. */
function templated(
  parts: readonly TemplatePart[],
  valueOf: (column: string) => string | null,
): string | null {
  const values = parts.map(part => ('text' in part ? part.text : valueOf(part.column)))
  const columns = parts.filter(part => 'column' in part).length
  const missing = values.filter(value => value === null).length
  return columns > 0 && missing === columns ? null : values.map(value => value ?? '').join('')
}

function computed(compiled: Expression, row: readonly (string | null)[], landedAt: string): string | null {
  return compiled.of(row, {
    operation: 'copy',
    committedAt: null,
    landedAt,
    position: null,
    origin: '',
    table: '',
  })
}

/** What is sent may be read by many; masks are for tables. */
export const noHash = (): string => {
  throw new NoValue('hash() is not there for what is sent.')
}
