/** Conditions as expressions, and expressions as conditions where they say no more: two views of one scope. */
import type { Column } from '../records/column.ts'
import { parseExpression, Fault, nameOf, isNull, type Node } from '../expression/syntax.ts'
import type { Condition } from './condition.ts'
import { plainMoment } from './prefilter.ts'

type Typed = Pick<Column, 'name' | 'type' | 'nullable'>
type Compared = Extract<Condition, { op: unknown }>

const OPERATORS = {
  equals: '==',
  'differs from': '!=',
  'is less than': '<',
  'is at most': '<=',
  'is more than': '>',
  'is at least': '>=',
} as const satisfies Partial<Record<Compared['op'], string>>

const CALLS = { 'starts with': 'startsWith', contains: 'contains' } as const

const OPPOSITES: Record<string, string> = {
  '==': '!=',
  '!=': '==',
  '<': '>=',
  '>=': '<',
  '>': '<=',
  '<=': '>',
}

/**
 * An expression that is true for just the rows that the condition is true for; undefined where there is none, as with dates
 * that are told from now.
 */
export function asExpression(condition: Condition, columns: readonly Typed[]): string | undefined {
  return truth(condition, columns, true)
}

/** `holds`: whether the condition is true, or whether it is false; what is not known is neither. */
function truth(condition: Condition, columns: readonly Typed[], holds: boolean): string | undefined {
  if ('not' in condition) return truth(condition.not, columns, !holds)
  if ('all' in condition || 'any' in condition) {
    const [parts, all] = 'all' in condition ? [condition.all, holds] : [condition.any, !holds]
    const said = parts.map(one => truth(one, columns, holds))
    if (said.includes(undefined)) return undefined
    if (said.length === 0) return String(all)
    return said.length === 1 ? said[0] : `(${said.join(all ? ' && ' : ' || ')})`
  }
  if ('expression' in condition) return holds ? `(${condition.expression})` : undefined
  const column = columns.find(({ name }) => name === condition.column)
  if (!column) return undefined
  const name =
    /^[A-Za-z_]\w*$/.test(column.name) && !RESERVED.has(column.name)
      ? column.name
      : `row[${quoted(column.name)}]`
  const there = `has(${name})`
  if ('isNull' in condition) return condition.isNull === holds ? `!${there}` : there
  const test = tested(condition, column, name, holds)
  return test === undefined ? undefined : column.nullable ? `(${there} && ${test})` : test
}

const RESERVED = new Set(['row', 'meta', 'true', 'false', 'null', 'in'])

function tested(
  condition: Exclude<Extract<Condition, { column: string }>, { isNull: unknown }>,
  column: Typed,
  name: string,
  holds: boolean,
): string | undefined {
  if ('in' in condition) {
    const values = condition.in.map(value => literal(value, column))
    if (values.includes(undefined)) return undefined
    const among = `${name} in [${values.join(', ')}]`
    return holds ? among : `!(${among})`
  }
  const value = literal(condition.value, column)
  if (value === undefined) return undefined
  if (condition.op === 'starts with' || condition.op === 'contains') {
    if (column.type.kind !== 'utf8') return undefined
    return `${holds ? '' : '!'}${name}.${CALLS[condition.op]}(${value})`
  }
  const operator = OPERATORS[condition.op]
  return `${name} ${holds ? operator : OPPOSITES[operator]} ${value}`
}

function literal(value: string, { type }: Typed): string | undefined {
  switch (type.kind) {
    case 'utf8':
      return quoted(value)
    case 'int':
      return /^-?(0|[1-9]\d{0,17})$/.test(value) ? value : undefined
    case 'decimal':
      return /^-?(0|[1-9]\d{0,17})(\.\d{1,15})?$/.test(value) ? value : undefined
    case 'bool':
      return /^(t|true)$/i.test(value) ? 'true' : /^(f|false)$/i.test(value) ? 'false' : undefined
    case 'date':
      return /^\d{4}-\d\d-\d\d$/.test(value) && plainMoment(value) ? `date("${value}")` : undefined
    case 'timestamp': {
      const moment = plainMoment(value)
      return moment && `${type.zoned ? 'timestamp' : 'localTimestamp'}("${moment}")`
    }
    default:
      return undefined
  }
}

function quoted(text: string): string {
  return JSON.stringify(text)
}

/** The condition that an expression is; undefined where it says more than conditions can. */
export function asCondition(text: string, columns: readonly Typed[]): Condition | undefined {
  let node: Node
  try {
    node = parseExpression(text)
  } catch (thrown) {
    if (thrown instanceof Fault) return undefined
    throw thrown
  }
  return new Reading(text, columns).condition(node)
}

class Reading {
  private readonly text: string
  private readonly columns: readonly Typed[]

  constructor(text: string, columns: readonly Typed[]) {
    this.text = text
    this.columns = columns
  }

  condition(node: Node): Condition | undefined {
    const { op, args } = node
    if (op === 'value') return args === true ? { all: [] } : args === false ? { any: [] } : undefined
    if (op === '&&' || op === '||') {
      const parts = this.parts(node, op)
      if (parts.includes(undefined)) return undefined
      return op === '&&' ? { all: withoutGuards(parts as Condition[]) } : { any: parts as Condition[] }
    }
    if (op === '!_') {
      const one = this.condition(args as Node)
      // Of anything else, what is not known would be true where it is not.
      return one && 'isNull' in one ? { ...one, isNull: !one.isNull } : undefined
    }
    if (op === 'call') {
      const [name, [of]] = args as [string, Node[]]
      const column = name === 'has' && of ? this.column(of) : undefined
      return column && { column: column.name, isNull: false }
    }
    if (op === 'rcall') return this.called(args as [string, Node, Node[]])
    if (op === 'in') return this.among(args as [Node, Node])
    return this.compared(op, args as [Node, Node])
  }

  private parts(node: Node, op: string): (Condition | undefined)[] {
    if (node.op !== op) return [this.condition(node)]
    return (node.args as [Node, Node]).flatMap(one => this.parts(one, op))
  }

  private called([name, of, [value]]: [string, Node, Node[]]): Condition | undefined {
    const op = (Object.keys(CALLS) as (keyof typeof CALLS)[]).find(one => CALLS[one] === name)
    const column = this.column(of)
    const text = value && column ? this.value(value, column) : undefined
    return op && column && text !== undefined ? { column: column.name, op, value: text } : undefined
  }

  private among([of, list]: [Node, Node]): Condition | undefined {
    const column = this.column(of)
    if (!column || list.op !== 'list') return undefined
    const values = (list.args as Node[]).map(one => this.value(one, column))
    return values.includes(undefined) ? undefined : { column: column.name, in: values as string[] }
  }

  private compared(operator: string, [left, right]: [Node, Node]): Condition | undefined {
    const op = (Object.keys(OPERATORS) as (keyof typeof OPERATORS)[]).find(one => OPERATORS[one] === operator)
    const column = op && this.column(left)
    if (!column) return undefined
    if (isNull(right)) {
      if (op !== 'equals' && op !== 'differs from') return undefined
      return { column: column.name, isNull: op === 'equals' }
    }
    const value = this.value(right, column)
    return value === undefined ? undefined : { column: column.name, op, value }
  }

  private column(node: Node): Typed | undefined {
    const name = nameOf(node)
    return this.columns.find(column => column.name === name)
  }

  /** Only what a condition would be said by, too: the same value in the same way. */
  private value(node: Node, column: Typed): string | undefined {
    const written = this.text.slice(node.start, node.end)
    const [only] = node.op === 'call' ? (node.args as [string, Node[]])[1] : [node]
    const value = only?.op === 'value' && typeof only.args === 'string' ? only.args : written
    return literal(value, column) === this.spelled(node, written) ? value : undefined
  }

  /** Texts can be written in more than one way. */
  private spelled({ op, args }: Node, written: string): string {
    if (op === 'value' && typeof args === 'string') return quoted(args)
    if (op !== 'call') return written
    const [name, [only]] = args as [string, Node[]]
    return only?.op === 'value' && typeof only.args === 'string' ? `${name}(${quoted(only.args)})` : written
  }
}

/** That a column is not null need not be said where it is compared. */
function withoutGuards(parts: readonly Condition[]): Condition[] {
  const compared = new Set(parts.flatMap(one => ('column' in one && !('isNull' in one) ? [one.column] : [])))
  return parts.filter(one => !('isNull' in one && !one.isNull && compared.has(one.column)))
}
