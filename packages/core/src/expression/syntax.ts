/** The syntax tree of an expression, and what can be told from it alone. */
import { parse } from '@marcbachmann/cel-js'

/** Longest expression. */
export const EXPRESSION_CHARACTERS = 2_000

export interface Place {
  start: number
  end: number
}

/** A node of the syntax tree, as the library gives it. */
export interface Node extends Place {
  op: string
  args: unknown
}

/** What is wrong with an expression, and where. */
export class Fault extends Error {
  readonly remedy: string
  readonly from: number
  readonly to: number

  constructor(message: string, remedy: string, { start: from, end: to }: Place) {
    super(message)
    this.remedy = remedy
    this.from = from
    this.to = to
  }
}

/** Throws a Fault where it cannot be read. */
export function parseExpression(text: string): Node {
  const whole = { start: 0, end: text.length }
  if (text.trim() === '') throw new Fault('The expression is empty.', 'Write one.', whole)
  if (text.length > EXPRESSION_CHARACTERS)
    throw new Fault('The expression is too long.', `Keep it to ${EXPRESSION_CHARACTERS} characters.`, whole)
  try {
    return parse(text).ast as unknown as Node
  } catch (thrown) {
    const { message, range } = thrown as { message: string; range?: Place }
    const said = message.split('\n')[0]!
    throw new Fault(`It cannot be read: ${said}.`, 'Correct it there.', range ?? whole)
  }
}

export interface Facts {
  whenTrue: string[]
  whenFalse: string[]
}

/** Columns that are not null where the condition holds, and where it does not. */
export function factsOf(node: Node): Facts {
  const { op, args } = node
  const none: string[] = []
  if (op === '!_') {
    const { whenTrue, whenFalse } = factsOf(args as Node)
    return { whenTrue: whenFalse, whenFalse: whenTrue }
  }
  if (op === '&&' || op === '||') {
    const [a, b] = (args as [Node, Node]).map(one => factsOf(one)) as [Facts, Facts]
    return op === '&&'
      ? { whenTrue: [...a.whenTrue, ...b.whenTrue], whenFalse: none }
      : { whenTrue: none, whenFalse: [...a.whenFalse, ...b.whenFalse] }
  }
  if (op === 'call') {
    const [name, [only]] = args as [string, Node[]]
    const about = name === 'has' && only ? nameOf(only) : undefined
    return { whenTrue: about ? [about] : none, whenFalse: none }
  }
  if (op !== '==' && op !== '!=') return { whenTrue: none, whenFalse: none }
  const [left, right] = args as [Node, Node]
  const about = isNull(left) ? nameOf(right) : isNull(right) ? nameOf(left) : undefined
  const said = about ? [about] : none
  return op === '!=' ? { whenTrue: said, whenFalse: none } : { whenTrue: none, whenFalse: said }
}

/** The column, or what of meta, that a node names. */
export function nameOf({ op, args }: Node): string | undefined {
  if (op === 'id') return args as string
  if (op !== '.' && op !== '[]') return undefined
  const [of, member] = args as [Node, Node | string]
  const name = typeof member === 'string' ? member : member.op === 'value' ? member.args : undefined
  if (of.op !== 'id' || typeof name !== 'string') return undefined
  return of.args === 'row' ? name : of.args === 'meta' ? `meta.${name}` : undefined
}

export function isNull({ op, args }: Node): boolean {
  return op === 'value' && args === null
}
