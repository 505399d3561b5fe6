/**
 * Expressions in CEL (https://github.com/google/cel-spec) over the columns of a row: parsed by a library, checked against the
 * columns' types here, and compiled to closures. Null is never computed with unawares: what may be null must be asked about
 * (`x != null ? … : …`, `has(x)`), replaced (`coalesce(x, …)`), or let through as null (`orNull(…)`).
 */
import type { Column } from '../records/column.ts'
import { printType, type LogicalType } from '../records/types.ts'
import type { Value } from '../records/value.ts'
import { arithmetic } from './arithmetic.ts'
import { parseDecimal, type Decimal } from './decimal.ts'
import { asInt, commonNumber, FUNCTIONS } from './functions.ts'
import { converted, isNumber, lifted, orderOf, type Meta, type Part, type Run } from './parts.ts'
import { factsOf, Fault, isNull, parseExpression, type Node, type Place } from './syntax.ts'
import {
  expressionType,
  logicalType,
  NoValue,
  printer,
  printKind,
  reader,
  type ExpressionType,
  type Known,
} from './values.ts'

export interface Expression {
  type: LogicalType
  nullable: boolean
  /** Names of the columns that it looks at. */
  columns: string[]
  /** It asks how the row came. */
  asksMeta: boolean
  /** It asks for keyed hashes. */
  hashes: boolean
  /** `row`: values in the order of the columns, those that it looks at are known. Throws NoValue. */
  of(row: readonly Value[], meta: Meta): string | null
}

/** Why an expression cannot be used, and where in it. `from`, `to`: places in the text. */
export interface ExpressionFault {
  message: string
  remedy: string
  from: number
  to: number
}

export type ExpressionColumn = Pick<Column, 'name' | 'type' | 'nullable'>

export function compileExpression(
  text: string,
  columns: readonly ExpressionColumn[],
  hash: (text: string) => string,
): Expression | ExpressionFault {
  try {
    return new Compiling(text, columns, hash).compile()
  } catch (thrown) {
    if (thrown instanceof Fault) {
      const { message, remedy, from, to } = thrown
      return { message, remedy, from, to }
    }
    throw thrown
  }
}

export function isFault(compiled: Expression | ExpressionFault): compiled is ExpressionFault {
  return 'message' in compiled
}

/** What is known where a part stands. */
interface Around {
  /** Columns that are not null there. */
  known: ReadonlySet<string>
  /** Null goes through what it meets. */
  orNull: boolean
}

const META: Record<keyof Meta, { type: ExpressionType; nullable: boolean }> = {
  operation: { type: { kind: 'string' }, nullable: false },
  committedAt: { type: { kind: 'timestamp' }, nullable: true },
  landedAt: { type: { kind: 'timestamp' }, nullable: false },
  position: { type: { kind: 'string' }, nullable: true },
  origin: { type: { kind: 'string' }, nullable: false },
  table: { type: { kind: 'string' }, nullable: false },
}

const BOOL: ExpressionType = { kind: 'bool' }
const STRING: ExpressionType = { kind: 'string' }

const COMPARE = new Map<string, (order: number) => boolean>([
  ['==', order => order === 0],
  ['!=', order => order !== 0],
  ['<', order => order < 0],
  ['<=', order => order <= 0],
  ['>', order => order > 0],
  ['>=', order => order >= 0],
])

class Compiling {
  private readonly text: string
  private readonly columns: readonly ExpressionColumn[]
  private readonly hash: (text: string) => string
  private readonly used = new Set<string>()
  private asksMeta = false
  private hashes = false

  constructor(text: string, columns: readonly ExpressionColumn[], hash: (text: string) => string) {
    this.text = text
    this.columns = columns
    this.hash = hash
  }

  compile(): Expression {
    const node = parseExpression(this.text)
    const { type, nullable, run } = this.part(node, { known: new Set(), orNull: false })
    const print = printer(type)
    return {
      type: logicalType(type),
      nullable,
      columns: [...this.used],
      asksMeta: this.asksMeta,
      hashes: this.hashes,
      of: (row, meta) => {
        const value = run({ row, meta })
        return value === null ? null : print(value)
      },
    }
  }

  private part(node: Node, around: Around): Part {
    const { op, args } = node
    switch (op) {
      case 'value':
        return this.literal(node)
      case 'id':
        return this.column(args as string, node, around)
      case '.':
      case '[]':
        return this.member(node, around)
      case '!_': {
        const one = this.condition(args as Node, around)
        return { ...one, run: at => !(one.run(at) as boolean) }
      }
      case '-_':
        return this.negated(args as Node, around)
      case '&&':
      case '||':
        return this.both(node, around)
      case '?:':
        return this.choice(node, around)
      case 'in':
        return this.among(node, around)
      case 'call': {
        const [name, given] = args as [string, Node[]]
        return this.call(name, given, node, around)
      }
      case 'rcall': {
        const [name, receiver, given] = args as [string, Node, Node[]]
        return this.call(name, [receiver, ...given], node, around)
      }
    }
    const [left, right] = args as [Node, Node]
    if (COMPARE.has(op)) return this.comparison(op, left, right, node, around)
    if (['+', '-', '*', '/', '%'].includes(op)) return this.arithmetic(op, left, right, node, around)
    throw new Fault('Lists, maps and their macros are not known here.', 'Say it otherwise.', node)
  }

  private literal(node: Node): Part {
    const { args, start, end } = node
    const written = this.text.slice(start, end)
    const of = (type: ExpressionType, value: Known): Part => ({
      type,
      nullable: false,
      run: () => value,
      literal: value,
    })
    if (typeof args === 'boolean') return of(BOOL, args)
    if (typeof args === 'bigint') return of({ kind: 'int' }, args)
    if (typeof args === 'string') return of(STRING, args)
    if (args === null) return { type: STRING, nullable: true, run: () => null }
    if (typeof args === 'number') {
      const exact = parseDecimal(written)
      return exact ? of({ kind: 'decimal', scale: exact.scale }, exact) : of({ kind: 'double' }, args)
    }
    throw new Fault(`“${written}” is of a type that is not known here.`, 'Write it as a text.', node)
  }

  private column(name: string, place: Place, { known }: Around): Part {
    const index = this.columns.findIndex(column => column.name === name)
    if (index < 0) {
      const names = this.columns.map(column => column.name)
      const like = names.find(one => one.toLowerCase() === name.toLowerCase())
      throw new Fault(
        `There is no column ${name}.`,
        like
          ? `There is ${like}.`
          : `Name one of ${names.slice(0, 30).join(', ')}; what is no plain word is written row["its name"].`,
        place,
      )
    }
    const { type: logical, nullable } = this.columns[index]!
    const type = expressionType(logical)
    if (!type) {
      throw new Fault(
        `${name} is a ${printType(logical)}, which expressions do not know.`,
        'Take it as it is.',
        place,
      )
    }
    this.used.add(name)
    const read = reader(type)
    return {
      type,
      nullable: nullable && !known.has(name),
      run: ({ row }) => {
        const value = row[index]
        return value === null || value === undefined ? null : read(value)
      },
    }
  }

  /** `row["…"]`, `row.…` and `meta.…`. */
  private member(node: Node, around: Around): Part {
    const [of, member] = node.args as [Node, Node | string]
    const name =
      typeof member === 'string'
        ? member
        : member.op === 'value' && typeof member.args === 'string'
          ? member.args
          : undefined
    if (of.op === 'id' && of.args === 'row' && name !== undefined) return this.column(name, node, around)
    if (of.op !== 'id' || of.args !== 'meta' || name === undefined)
      throw new Fault('Only row and meta have members.', 'Write row["a column"] or meta.origin.', node)
    if (!Object.hasOwn(META, name))
      throw new Fault(`There is no meta.${name}.`, `Name one of ${Object.keys(META).join(', ')}.`, node)
    const { type, nullable } = META[name as keyof Meta]
    this.asksMeta = true
    const read = reader(type)
    const known = around.known.has(`meta.${name}`)
    return {
      type,
      nullable: nullable && !known,
      run: ({ meta }) => {
        const value = meta[name as keyof Meta]
        return value === null ? null : read(value)
      },
    }
  }

  private condition(node: Node, around: Around): Part {
    const part = this.part(node, around)
    this.expect(part, 'bool', node)
    return this.whole(part, node, around)
  }

  private expect({ type }: Part, kind: ExpressionType['kind'], node: Node): void {
    if (type.kind === kind) return
    throw new Fault(
      `${this.said(node)} is ${printKind(type.kind)}, where ${printKind(kind)} is wanted.`,
      'Compare it with something, or turn it into that.',
      node,
    )
  }

  /** Refuses what may be null, unless null goes through. */
  private whole(part: Part, node: Node, { orNull }: Around): Part {
    if (!part.nullable || orNull) return part
    const said = this.said(node)
    throw new Fault(
      `${said} may be null.`,
      `Say what then: coalesce(${said}, …), ${said} == null ? … : …, or orNull(…) around it.`,
      node,
    )
  }

  private said({ start, end }: Place): string {
    const text = this.text.slice(start, end)
    return text.length > 40 ? `${text.slice(0, 40)}…` : text
  }

  private negated(node: Node, around: Around): Part {
    const one = this.whole(this.part(node, around), node, around)
    const { kind } = one.type
    const negate = (value: Known): Known => {
      if (kind === 'int') return asInt(-(value as bigint))
      if (kind === 'double') return -(value as number)
      const { unscaled, scale } = value as Decimal
      return { unscaled: -unscaled, scale }
    }
    if (kind !== 'int' && kind !== 'double' && kind !== 'decimal')
      throw new Fault(`${this.said(node)} is ${printKind(kind)}, and has no sign.`, 'Correct it.', node)
    const literal = one.literal === undefined ? {} : { literal: negate(one.literal) }
    return { ...one, ...literal, run: lifted([one], negate) }
  }

  private both({ op, args }: Node, around: Around): Part {
    const [left, right] = args as [Node, Node]
    const a = this.condition(left, around)
    const { whenTrue, whenFalse } = factsOf(left)
    const known = new Set([...around.known, ...(op === '&&' ? whenTrue : whenFalse)])
    const b = this.condition(right, { ...around, known })
    const decides = op === '||'
    return {
      type: BOOL,
      nullable: a.nullable || b.nullable,
      // With what is not known, as SQL has it.
      run: at => {
        const first = a.run(at)
        if (first === decides) return decides
        const second = b.run(at)
        return second === decides ? decides : first === null ? null : second
      },
    }
  }

  private choice(node: Node, around: Around): Part {
    const [asked, then, otherwise] = node.args as [Node, Node, Node]
    const condition = this.part(asked, around)
    this.expect(condition, 'bool', asked)
    this.whole(condition, asked, { ...around, orNull: false })
    const { whenTrue, whenFalse } = factsOf(asked)
    const a = this.part(then, { ...around, known: new Set([...around.known, ...whenTrue]) })
    const b = this.part(otherwise, { ...around, known: new Set([...around.known, ...whenFalse]) })
    const [type, left, right] = this.alike([a, then], [b, otherwise], node)
    return {
      type,
      nullable: a.nullable || b.nullable,
      run: at => (condition.run(at) === true ? left(at) : right(at)),
    }
  }

  /** Both in one type; null is of any. */
  private alike([a, left]: [Part, Node], [b, right]: [Part, Node], node: Node): [ExpressionType, Run, Run] {
    if (isNull(left)) return [b.type, a.run, b.run]
    if (isNull(right)) return [a.type, a.run, b.run]
    if (isNumber(a.type) && isNumber(b.type)) {
      const type = this.number(a, b, node)
      return [type, converted(a, type), converted(b, type)]
    }
    if (a.type.kind !== b.type.kind) {
      throw new Fault(
        `${this.said(left)} is ${printKind(a.type.kind)}, and ${this.said(right)} is ${printKind(b.type.kind)}.`,
        'Make both of one type, for example by text(…).',
        node,
      )
    }
    return [a.type, a.run, b.run]
  }

  /** Doubles and exact decimals meet only where a decimal is written out. */
  private number(a: Part, b: Part, node: Node): ExpressionType {
    const kinds = [a.type.kind, b.type.kind]
    const written = (a.type.kind === 'decimal' ? a : b).literal !== undefined
    if (kinds.includes('double') && kinds.includes('decimal') && !written) {
      throw new Fault(
        `${this.said(node)} mixes a double with an exact decimal.`,
        'Say which it shall be: double(…) or decimal(…).',
        node,
      )
    }
    return commonNumber(a.type, b.type)
  }

  private comparison(op: string, left: Node, right: Node, node: Node, around: Around): Part {
    const asksNull = isNull(left) || isNull(right)
    if (asksNull) {
      if (op !== '==' && op !== '!=')
        throw new Fault('Nothing is more or less than null.', 'Ask by == or != whether it is null.', node)
      const one = this.part(isNull(left) ? right : left, around)
      return { type: BOOL, nullable: false, run: at => (one.run(at) === null) === (op === '==') }
    }
    const a = this.whole(this.part(left, around), left, around)
    const b = this.whole(this.part(right, around), right, around)
    const [type, runA, runB] = this.alike([a, left], [b, right], node)
    if (type.kind === 'bool' && op !== '==' && op !== '!=')
      throw new Fault('True and false have no order.', 'Ask by == or !=.', node)
    const holds = COMPARE.get(op)!
    const order = orderOf(type)
    return {
      type: BOOL,
      nullable: a.nullable || b.nullable,
      run: lifted([{ run: runA }, { run: runB }], (x, y) => holds(order(x, y))),
    }
  }

  private among(node: Node, around: Around): Part {
    const [one, list] = node.args as [Node, Node]
    if (list.op !== 'list')
      throw new Fault(`${this.said(list)} is no list.`, 'Write one: x in ["a", "b"].', list)
    const value = this.whole(this.part(one, around), one, around)
    const found = (list.args as Node[]).map(item => {
      const part = this.whole(this.part(item, around), item, around)
      const [type, a, b] = this.alike([value, one], [part, item], item)
      return { a, b, order: orderOf(type) }
    })
    return {
      type: BOOL,
      nullable: value.nullable,
      run: at =>
        value.run(at) === null
          ? null
          : found.some(({ a, b, order }) => order(a(at) as Known, b(at) as Known) === 0),
    }
  }

  private arithmetic(op: string, left: Node, right: Node, node: Node, around: Around): Part {
    const a = this.whole(this.part(left, around), left, around)
    const b = this.whole(this.part(right, around), right, around)
    const nullable = a.nullable || b.nullable
    if (op === '+' && a.type.kind === 'string' && b.type.kind === 'string')
      return { type: STRING, nullable, run: lifted([a, b], (x, y) => `${x as string}${y as string}`) }
    if (!isNumber(a.type) || !isNumber(b.type)) {
      throw new Fault(
        `${this.said(left)} is ${printKind(a.type.kind)}, and ${this.said(right)} is ${printKind(b.type.kind)}: ${op} does not know what to do.`,
        op === '+' ? 'Join texts, or add numbers; text(…) makes a text of anything.' : 'Use numbers.',
        node,
      )
    }
    const common = this.number(a, b, node)
    const zero = () => {
      throw new NoValue(`${this.said(right)} is 0`)
    }
    const made = arithmetic(op, [a.type, b.type], common, zero)
    if (!made) throw new Fault('A rest is known of whole numbers only.', 'Use whole numbers: int(…).', node)
    const parts = [{ run: converted(a, common) }, { run: converted(b, common) }]
    return { type: made.type, nullable, run: lifted(parts, made.run) }
  }

  private call(name: string, given: readonly Node[], node: Node, around: Around): Part {
    if (name === 'coalesce') return this.coalesce(given, node, around)
    if (name === 'has' || name === 'orNull' || name === 'hash') {
      const [only] = given
      if (!only || given.length > 1) throw new Fault(`${name} takes one thing.`, `Write ${name}(…).`, node)
      if (name === 'orNull') return this.part(only, { ...around, orNull: true })
      if (name === 'has') {
        const one = this.part(only, around)
        return { type: BOOL, nullable: false, run: at => one.run(at) !== null }
      }
      const one = this.whole(this.part(only, around), only, around)
      this.expect(one, 'string', only)
      this.hashes = true
      return { ...one, type: STRING, run: lifted([one], text => this.hash(text as string)) }
    }
    const called = FUNCTIONS.find(one => one.name === name)
    if (!called) {
      const names = ['coalesce', 'has', 'orNull', 'hash', ...FUNCTIONS.map(one => one.name)]
      throw new Fault(`There is no function ${name}.`, `There are ${names.join(', ')}.`, node)
    }
    const { takes, needed } = called
    if (given.length < needed || given.length > takes.length) {
      const wanted = needed === takes.length ? String(needed) : `${needed} to ${takes.length}`
      throw new Fault(
        `${name} takes ${wanted} things, not ${given.length}.`,
        `For example ${called.example[0]}.`,
        node,
      )
    }
    const parts = given.map((one, i) => {
      const part = this.whole(this.part(one, around), one, around)
      const kinds = takes[i]!
      if (!kinds.includes(part.type.kind)) {
        throw new Fault(
          `${this.said(one)} is ${printKind(part.type.kind)}; ${name} takes ${kinds.map(printKind).join(' or ')} there.`,
          `For example ${called.example[0]}.`,
          one,
        )
      }
      return part
    })
    const types = parts.map(({ type }) => type)
    const literals = parts.map(({ literal }) => literal)
    const type = called.gives(types)
    const digits = literals[1]
    // How long a rounded number is, is known where it is written.
    const scale =
      name === 'round' && type.kind === 'decimal' && (given.length === 1 || typeof digits === 'bigint')
        ? { scale: Number(digits ?? 0n) }
        : {}
    try {
      const run = called.make(types, literals)
      return {
        type: { ...type, ...scale },
        nullable: parts.some(({ nullable }) => nullable),
        run: lifted(parts, run),
      }
    } catch (thrown) {
      if (thrown instanceof NoValue)
        throw new Fault(`${thrown.message}.`, `For example ${called.example[0]}.`, node)
      throw thrown
    }
  }

  /** The first that is not null. */
  private coalesce(given: readonly Node[], node: Node, around: Around): Part {
    const [first, ...others] = given
    if (!first || others.length === 0)
      throw new Fault('coalesce takes two things at least.', 'For example coalesce(note, "none").', node)
    const begin = { part: this.part(first, around), node: first }
    return others.reduce<{ part: Part; node: Node }>(({ part: before, node: left }, right) => {
      const part = this.part(right, around)
      const [type, a, b] = this.alike([before, left], [part, right], node)
      return {
        node: left,
        part: { type, nullable: before.nullable && part.nullable, run: at => a(at) ?? b(at) },
      }
    }, begin).part
  }
}
