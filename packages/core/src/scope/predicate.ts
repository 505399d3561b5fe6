/** A condition as a test of rows, with SQL's three-valued logic: null means that it is not known. */
import type { Column } from '../records/column.ts'
import { printType } from '../records/types.ts'
import { parseList, type Nested } from '../records/list.ts'
import type { Value } from '../records/value.ts'
import type { Condition } from './condition.ts'
import { compileExpression, isFault } from '../expression/compile.ts'
import type { Meta } from '../expression/parts.ts'
import { orderOf } from './order.ts'
import { asOf, moves } from './relative.ts'

export type Truth = boolean | null

export interface Predicate {
  /** Names of the columns that it looks at. */
  columns: string[]
  /** Values in the order of the columns that it was made for; those that it looks at are there. Throws NoValue. */
  test(row: readonly Value[]): Truth
}

/** A column that a condition may look at. */
export type TestedColumn = Pick<Column, 'name' | 'type' | 'nullable'>

/** A condition that cannot be tested. */
export interface ConditionFault {
  message: string
  remedy: string
}

/** As `predicateOf`, of a condition that holds at a moment; ISO 8601. Rows are mostly tested as of the same one. */
export function predicateAsOf(
  condition: Condition,
  columns: readonly TestedColumn[],
): (now: string) => Predicate {
  const fixed = moves(condition, columns) === undefined
  let [moment, predicate]: [string | undefined, Predicate | undefined] = [undefined, undefined]
  return now => {
    if (predicate && (fixed || moment === now)) return predicate
    const made = predicateOf(asOf(condition, columns, now), columns)
    if ('message' in made) throw new Error(`a scope that the plan should have refused: ${made.message}`)
    moment = now
    return (predicate = made)
  }
}

/** `columns`: those of the rows that it is to test, in their order. */
export function predicateOf(
  condition: Condition,
  columns: readonly TestedColumn[],
): Predicate | ConditionFault {
  const names = new Set<string>()
  try {
    const test = testOf(condition, columns, names)
    return { columns: [...names], test }
  } catch (fault) {
    if (fault instanceof Fault) return { message: fault.message, remedy: fault.remedy }
    throw fault
  }
}

class Fault extends Error {
  readonly remedy: string

  constructor(message: string, remedy: string) {
    super(message)
    this.remedy = remedy
  }
}

type Test = Predicate['test']

function testOf(condition: Condition, columns: readonly TestedColumn[], names: Set<string>): Test {
  const within = (one: Condition) => testOf(one, columns, names)
  if ('all' in condition) return everyOf(condition.all.map(within))
  if ('any' in condition) {
    const none = everyOf(condition.any.map(within).map(negated))
    return negated(none)
  }
  if ('not' in condition) return negated(within(condition.not))
  if ('expression' in condition) return expressed(condition.expression, columns, names)
  const index = columns.findIndex(({ name }) => name === condition.column)
  if (index < 0) {
    throw new Fault(
      `There is no column ${condition.column}.`,
      `Name one of ${columns.map(({ name }) => name).join(', ')}.`,
    )
  }
  names.add(condition.column)
  if ('isNull' in condition) {
    const wanted = condition.isNull
    return row => (row[index] === null) === wanted
  }
  return comparison(condition, index, columns[index]!)
}

/** A scope asks of the row alone: it decides the same whether the row is copied, followed or fetched. */
const NOTHING_ELSE: Meta = {
  operation: '',
  committedAt: null,
  landedAt: '',
  position: null,
  origin: '',
  table: '',
}

function expressed(text: string, columns: readonly TestedColumn[], names: Set<string>): Test {
  const compiled = compileExpression(text, columns, one => one)
  if (isFault(compiled))
    throw new Fault(
      `At character ${compiled.from + 1} of the expression: ${compiled.message}`,
      compiled.remedy,
    )
  if (compiled.type.kind !== 'bool')
    throw new Fault(
      `The expression gives a ${printType(compiled.type)}, and neither true nor false.`,
      'Compare what it gives with something.',
    )
  if (compiled.asksMeta || compiled.hashes)
    throw new Fault(
      `The expression asks for ${compiled.hashes ? 'a keyed hash' : 'how the row came'}, which says nothing of whether it takes part.`,
      'Ask for its columns alone.',
    )
  for (const name of compiled.columns) names.add(name)
  return row => {
    const value = compiled.of(row, NOTHING_ELSE)
    return value === null ? null : value === 't'
  }
}

function comparison(
  condition: Extract<Condition, { op: unknown } | { in: unknown }>,
  index: number,
  { name, type }: Pick<Column, 'name' | 'type'>,
): Test {
  const order = orderOf(type)
  const literal = (value: string): unknown => {
    const parsed = order.parse(value)
    if (parsed === undefined)
      throw new Fault(
        `“${value}” is no value of ${name}, which is a ${printType(type)}.`,
        'Correct the value.',
      )
    return parsed
  }
  /** `found`: what comparing a value with the literal must come to. */
  const compared = (value: string, found: (compared: number) => boolean): Test => {
    const wanted = literal(value)
    return row => {
      const text = row[index]
      if (text === null || text === undefined) return null
      const parsed = order.parse(text)
      // What the type itself has no order for is equal to nothing, and is neither less nor more.
      return parsed === undefined ? found(NaN) : found(order.compare(parsed, wanted))
    }
  }
  if ('in' in condition) {
    const equal = condition.in.map(value => compared(value, found => found === 0))
    return negated(everyOf(equal.map(negated)))
  }
  const { op, value } = condition
  if (op === 'equals') return compared(value, found => found === 0)
  if (op === 'differs from') return compared(value, found => found !== 0)
  if (op === 'starts with' || op === 'contains') {
    if (type.kind === 'list' && type.of.kind === 'utf8' && op === 'contains')
      return row => {
        const text = row[index]
        return text === null || text === undefined ? null : holds(parseList(text, type.delimiter), value)
      }
    if (type.kind !== 'utf8')
      throw new Fault(
        `${name} is a ${printType(type)}; only texts begin with others.`,
        'Compare it otherwise.',
      )
    return row => {
      const text = row[index]
      if (text === null || text === undefined) return null
      return op === 'contains' ? text.includes(value) : text.startsWith(value)
    }
  }
  if (!order.ordered)
    throw new Fault(
      `${name} is a ${printType(type)}, which has no order.`,
      'Ask whether it equals something.',
    )
  switch (op) {
    case 'is less than':
      return compared(value, found => found < 0)
    case 'is at most':
      return compared(value, found => found <= 0)
    case 'is more than':
      return compared(value, found => found > 0)
    case 'is at least':
      return compared(value, found => found >= 0)
  }
}

/** In however many dimensions; as in SQL it is not known of one without it that has a null. */
function holds(list: Nested, value: string): Truth {
  let known: Truth = false
  for (const element of list) {
    const found = Array.isArray(element) ? holds(element, value) : element === null ? null : element === value
    if (found) return true
    if (found === null) known = null
  }
  return known
}

function everyOf(tests: readonly Test[]): Test {
  return row => {
    let known: Truth = true
    for (const test of tests) {
      const truth = test(row)
      if (truth === false) return false
      if (truth === null) known = null
    }
    return known
  }
}

function negated(test: Test): Test {
  return row => {
    const truth = test(row)
    return truth === null ? null : !truth
  }
}
