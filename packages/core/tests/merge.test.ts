/** Two sides that people change, and passes over them: nothing is written twice, and in the end both say the same. */
import { describe, expect, test } from '@jest/globals'
import fc from 'fast-check'
import { elementsOf, normalIn, sameIn, type Form, type Value } from '../src/merge/form.ts'
import {
  agreedAfter,
  compileJoin,
  mergeRecord,
  type CompiledJoin,
  type FieldJoin,
  type LaneMerge,
  type Outcome,
} from '../src/merge/merge.ts'
import { other, sayer, type Side } from '../src/merge/rule.ts'

const SIDES = ['a', 'b'] as const

/** What an app makes of a value that it is given. */
type Normal = (value: Value) => Value

interface Kind {
  rule: FieldJoin['rule']
  forms: Record<Side, Form>
  normal: Record<Side, Normal>
  values: Record<Side, fc.Arbitrary<Value>>
  /** Where the record started; on A by default. */
  origin?: Side
}

const same: Normal = value => value
const trimmed: Normal = value => value?.trim() ?? null
const lowered: Normal = value => value?.trim().toLowerCase() ?? null
const nullable = (values: fc.Arbitrary<string>): fc.Arbitrary<Value> => fc.option(values, { freq: 6 })
const words = fc
  .array(fc.constantFrom('Mend', 'the', 'gate', ' ', 'É', 'K-7', '', '  '), { maxLength: 4 })
  .map(some => some.join(' '))
const lines = fc
  .array(fc.constantFrom('one', 'two', ' three', '', 'constructor', '__proto__'), { maxLength: 5 })
  .map(all => all.join('\n'))
/** In thousandths, so that rounding needs no floats. */
const thousandths = fc.integer({ min: -5000, max: 5000 }).map(n => {
  const digits = String(Math.abs(n)).padStart(4, '0')
  return `${n < 0 ? '-' : ''}${digits.slice(0, -3)}.${digits.slice(-3)}`
})
const toCents: Normal = value => {
  if (value === null) return null
  const n = Math.round(Number(value) * 1000)
  const cents = Math.sign(n) * Math.floor((Math.abs(n) + 5) / 10)
  return (cents / 100).toFixed(2)
}
const moments = fc.integer({ min: 0, max: 100_000_000 }).map(ms => new Date(1.79e12 + ms).toISOString())
const toTheSecond: Normal = value => value && `${value.slice(0, 19)}Z`
const sets = (of: string[]) => fc.subarray(of).map(some => JSON.stringify(some))
const sorted: Normal = value => {
  const elements = elementsOf(value).sort()
  return elements.length === 0 ? null : JSON.stringify(elements)
}
const STATUS = [
  { a: 'new', b: 'to do' },
  { a: 'ready', b: 'to do', first: true as const },
  { a: 'doing', b: 'in hand' },
  { a: 'done', b: 'done' },
  { a: 'done', b: 'archived' },
]
const LABELS = [
  { a: 'frost', b: 'Cold' },
  { a: 'ice', b: 'Cold' },
  { a: 'dry', b: 'Water' },
]

const text: Form = { kind: 'text' }
const KINDS: Record<string, Kind> = {
  text: {
    rule: { as: 'it is' },
    forms: { a: text, b: text },
    normal: { a: same, b: same },
    values: { a: nullable(words), b: nullable(words) },
  },
  'trimmed on one side, lowered on the other': {
    rule: { as: 'it is' },
    forms: { a: { kind: 'text', trims: true, lowers: true }, b: { kind: 'text', trims: true, lowers: true } },
    normal: { a: trimmed, b: lowered },
    values: { a: nullable(words), b: nullable(words) },
  },
  'lines of text, which one side trims': {
    rule: { as: 'it is' },
    forms: { a: { kind: 'text', trims: true }, b: { kind: 'text', trims: true } },
    normal: { a: same, b: trimmed },
    values: { a: nullable(lines), b: nullable(lines) },
  },
  'rounded on one side': {
    rule: { as: 'it is' },
    forms: { a: { kind: 'number' }, b: { kind: 'number', decimals: 2 } },
    normal: { a: same, b: toCents },
    values: { a: nullable(thousandths), b: nullable(thousandths.map(n => toCents(n)!)) },
  },
  'to the second on one side': {
    rule: { as: 'it is' },
    forms: { a: { kind: 'moment' }, b: { kind: 'moment', everyMs: 1000 } },
    normal: { a: same, b: toTheSecond },
    values: { a: nullable(moments), b: nullable(moments.map(one => toTheSecond(one)!)) },
  },
  'a day and a moment': {
    rule: { as: 'it is' },
    forms: { a: { kind: 'date' }, b: { kind: 'moment' } },
    normal: { a: same, b: same },
    values: { a: nullable(moments.map(one => one.slice(0, 10))), b: nullable(moments) },
  },
  'mapped, several to one both ways': {
    rule: { as: 'mapped', map: { pairs: STATUS, others: 'held' } },
    forms: { a: { kind: 'other' }, b: { kind: 'other' } },
    normal: { a: same, b: same },
    values: {
      a: nullable(fc.constantFrom('new', 'ready', 'doing', 'done', 'strange')),
      b: nullable(fc.constantFrom('to do', 'in hand', 'done', 'archived', 'odd')),
    },
  },
  'mapped to one for all others': {
    rule: { as: 'mapped', map: { pairs: STATUS, others: { a: 'doing', b: 'in hand' } } },
    forms: { a: { kind: 'other' }, b: { kind: 'other' } },
    normal: { a: same, b: same },
    values: {
      a: nullable(fc.constantFrom('new', 'ready', 'doing', 'done', 'strange')),
      b: nullable(fc.constantFrom('to do', 'in hand', 'done', 'archived', 'odd')),
    },
  },
  'with a key before it': {
    rule: { as: 'affixed', affix: { on: 'b', before: '{key} ', behind: ' ({key})' } },
    forms: { a: text, b: text },
    normal: { a: same, b: same },
    values: { a: nullable(words), b: nullable(words.map(some => `K-7 ${some} (K-7)`)) },
  },
  'with who said it before it': {
    rule: { as: 'attributed', a: '{key}: ', b: '{key}, there: ' },
    forms: { a: text, b: text },
    normal: { a: same, b: same },
    values: { a: nullable(words), b: nullable(words.map(some => `K-7: ${some}`)) },
  },
  'sets, some elements of which mean the same': {
    rule: { as: 'set', map: LABELS, others: 'left' },
    forms: { a: { kind: 'set' }, b: { kind: 'set' } },
    normal: { a: same, b: sorted },
    values: { a: sets(['frost', 'ice', 'dry', 'own']), b: sets(['Cold', 'Water', 'theirs']) },
  },
  'sets, whose elements are made on the other side': {
    rule: { as: 'set', others: 'made there' },
    forms: { a: { kind: 'set' }, b: { kind: 'set' } },
    normal: { a: sorted, b: same },
    values: { a: sets(['x', 'y', 'z']), b: sets(['x', 'y', 'z']) },
  },
}

const policies = fc.record({
  direction: fc.constantFrom<FieldJoin['direction']>('both', 'both', 'a to b', 'b to a'),
  conflict: fc.constantFrom<FieldJoin['conflict']>('the later', 'a', 'b', 'ask', 'by line'),
  against: fc.constantFrom<FieldJoin['against']>('left', 'put back'),
})
type Policy = typeof policies extends fc.Arbitrary<infer T> ? T : never

const laneOf = (joins: CompiledJoin[], more: Pick<LaneMerge, 'tie' | 'first'>): LaneMerge => ({
  joins,
  ...more,
})
const ways = fc.record({
  tie: fc.constantFrom<Side>('a', 'b'),
  first: fc.constantFrom<LaneMerge['first']>('the later', 'a', 'b', 'fill what is empty'),
})

/** One field of one pair on two apps. */
class World {
  now: Record<Side, Value>
  base: Record<Side, (Value | undefined)[]> = { a: [undefined], b: [undefined] }
  at: Record<Side, number> = { a: 0, b: 0 }
  clock = 1
  last: Outcome[] = []
  readonly lane: LaneMerge
  readonly kind: Kind

  constructor(kind: Kind, lane: LaneMerge, now: Record<Side, Value>) {
    this.kind = kind
    this.lane = lane
    this.now = { a: kind.normal.a(now.a), b: kind.normal.b(now.b) }
  }

  edit(side: Side, value: Value): void {
    this.now[side] = this.kind.normal[side](value)
    this.at[side] = this.clock++
  }

  record() {
    return {
      now: { a: [this.now.a], b: [this.now.b] },
      base: this.base,
      changedAt: { a: () => this.at.a, b: () => this.at.b },
      wordsOf: () => 'K-7',
      origin: this.kind.origin ?? 'a',
      find: (_: number, value: string) => ({ is: value }),
    }
  }

  /** How many values it wrote. */
  pass(): number {
    const record = this.record()
    this.last = mergeRecord(this.lane, record)
    let writes = 0
    for (const outcome of this.last)
      for (const side of SIDES)
        if (outcome.comes === 'written' && outcome[side] !== undefined) {
          this.now[side] = this.kind.normal[side](outcome[side])
          writes++
        }
    this.base = agreedAfter(record, this.last, { a: () => this.now.a, b: () => this.now.b })
    return writes
  }

  get isHeld(): boolean {
    return this.last.some(({ comes }) => comes === 'held')
  }

  /** One of them says what the other does. */
  get agrees(): boolean {
    const [join] = this.lane.joins
    if (join!.set) return join!.set.agree(this.now)
    return SIDES.some(from => {
      const to = other(from)
      const context = { ...this.record(), standing: this.now[to], find: (value: string) => ({ is: value }) }
      const said = join!.say!(this.now[from], from, context)
      return said !== 'not yet' && 'is' in said && sameIn(join!.forms[to], said.is, this.now[to])
    })
  }
}

type Step = { does: 'pass' } | { does: 'edit'; side: Side; value: Value }

const stepsOf = ({ values }: Kind): fc.Arbitrary<Step[]> =>
  fc.array(
    fc.oneof(
      fc.constant<Step>({ does: 'pass' }),
      values.a.map((value): Step => ({ does: 'edit', side: 'a', value })),
      values.b.map((value): Step => ({ does: 'edit', side: 'b', value })),
    ),
    { maxLength: 12 },
  )

const compiled = (kind: Kind, policy: Policy) =>
  compileJoin({ a: 'f', b: 'g', rule: kind.rule, ...policy }, kind.forms)

describe.each(Object.entries(KINDS))('%s', (_, kind) => {
  const worlds = fc.tuple(policies, ways, kind.values.a, kind.values.b, stepsOf(kind))

  test('once nobody changes anything, a pass writes what is left, and the next writes nothing; both say the same then', () => {
    fc.assert(
      fc.property(worlds, ([policy, way, a, b, steps]) => {
        const world = new World(kind, laneOf([compiled(kind, policy)], way), { a, b })
        // What is first agreed may be left as it is; from then on it is as people say it.
        world.pass()
        const leftAtFirst = way.first === 'fill what is empty'
        for (const step of steps) {
          if (step.does === 'pass') world.pass()
          else world.edit(step.side, step.value)
        }
        world.pass()
        const before = { ...world.now }
        expect(world.pass()).toBe(0)
        expect(world.now).toEqual(before)
        const keeps = policy.direction !== 'both' && policy.against === 'left'
        if (!world.isHeld && !keeps && !leftAtFirst)
          expect([world.now, world.agrees]).toEqual([world.now, true])
      }),
      { numRuns: 300 },
    )
  })

  test('a change of one side alone is not lost', () => {
    fc.assert(
      fc.property(policies, ways, kind.values.a, kind.values.a, (policy, way, first, then) => {
        fc.pre(policy.direction !== 'b to a')
        const world = new World(kind, laneOf([compiled(kind, policy)], { ...way, first: 'a' }), {
          a: first,
          b: null,
        })
        world.pass()
        fc.pre(!world.isHeld)
        world.edit('a', then)
        const said = world.now.a
        world.pass()
        expect(world.now.a).toBe(said)
        if (!world.isHeld) expect(world.agrees).toBe(true)
      }),
      { numRuns: 150 },
    )
  })

  test('neither side is the first: with both changed over, the same comes of it', () => {
    const turned = <T extends string>(word: T): T =>
      (({
        a: 'b',
        b: 'a',
        'a to b': 'b to a',
        'b to a': 'a to b',
        'a changed': 'b changed',
        'b changed': 'a changed',
        'a wins': 'b wins',
        'b wins': 'a wins',
      })[word as string] as T) ?? word
    const turn = <T>(sides: Record<Side, T>): Record<Side, T> => ({ a: sides.b, b: sides.a })
    const turnPairs = (pairs: typeof STATUS) => pairs.map(({ a, b, ...more }) => ({ a: b, b: a, ...more }))
    const { rule } = kind
    const turnedRule: FieldJoin['rule'] =
      rule.as === 'mapped'
        ? {
            as: 'mapped',
            map: {
              pairs: turnPairs(rule.map.pairs as typeof STATUS),
              others: typeof rule.map.others === 'object' ? turn(rule.map.others) : rule.map.others,
            },
          }
        : rule.as === 'set'
          ? { ...rule, ...(rule.map ? { map: turnPairs(rule.map as typeof STATUS) } : {}) }
          : rule.as === 'affixed'
            ? { as: 'affixed', affix: { ...rule.affix, on: other(rule.affix.on) } }
            : rule.as === 'attributed'
              ? { as: 'attributed', a: rule.b, b: rule.a }
              : rule
    const mirrored: Kind = {
      rule: turnedRule,
      forms: turn(kind.forms),
      normal: turn(kind.normal),
      values: turn(kind.values),
      origin: 'b',
    }
    fc.assert(
      fc.property(worlds, ([policy, way, a, b, steps]) => {
        const one = new World(kind, laneOf([compiled(kind, policy)], way), { a, b })
        const turnedPolicy = {
          ...policy,
          direction: turned(policy.direction),
          conflict: turned(policy.conflict),
        }
        const two = new World(
          mirrored,
          laneOf([compiled(mirrored, turnedPolicy)], { tie: turned(way.tie), first: turned(way.first) }),
          { a: b, b: a },
        )
        for (const step of [...steps, { does: 'pass' } as Step]) {
          if (step.does === 'pass') {
            one.pass()
            two.pass()
          } else {
            one.edit(step.side, step.value)
            two.edit(other(step.side), step.value)
          }
        }
        expect(turn(two.now)).toEqual(one.now)
        expect(two.last.map(({ comes }) => comes)).toEqual(one.last.map(({ comes }) => comes))
      }),
      { numRuns: 150 },
    )
  })
})

describe('text with a key before it', () => {
  const say = sayer(
    { as: 'affixed', affix: { on: 'b', before: '{key} ', behind: ' [{key}]' } },
    { a: text, b: text },
  )
  const context = (standing: Value, key = 'RKB-104') => ({
    wordsOf: () => key,
    origin: 'a' as const,
    find: () => 'not yet' as const,
    standing,
  })
  const is = (said: ReturnType<typeof say>) => (said as { is: Value }).is

  test('what is put before and behind is taken off again', () => {
    const key = fc.string({ minLength: 1 }).filter(some => some.trim() !== '')
    fc.assert(
      fc.property(fc.string(), key, (plain, key) => {
        const there = is(say(plain, 'a', context(null, key)))
        expect(is(say(there, 'b', context(plain, key)))).toBe(plain)
      }),
    )
  })

  test.each([
    ['RKB-104 Mend the gate [RKB-104]', 'Mend the gate'],
    ['Urgent: RKB-104 Mend the gate', 'Urgent: Mend the gate'],
    ['Mend the gate', 'Mend the gate'],
    ['  RKB-104  Mend the gate [RKB-104]', 'Mend the gate'],
  ])('also where somebody has written around it: %s', (typed, plain) => {
    expect(is(say(typed, 'b', context('Mend the north gate')))).toBe(plain)
  })
})

test('numbers are the same by their value, however they are written', () => {
  const form: Form = { kind: 'number' }
  fc.assert(
    fc.property(
      fc.bigInt({ min: -(10n ** 30n), max: 10n ** 30n }),
      fc.nat(20),
      fc.nat(5),
      (n, point, zeros) => {
        const digits = String(n < 0n ? -n : n).padStart(point + 1, '0')
        const sign = n < 0n ? '-' : ''
        const plain = `${sign}${digits.slice(0, digits.length - point)}${point > 0 ? `.${digits.slice(-point)}` : ''}`
        expect(sameIn(form, plain, `${n}e-${point}`)).toBe(true)
        const longer = plain.includes('.') ? plain + '0'.repeat(zeros) : `${plain}.${'0'.repeat(zeros)}`
        expect(sameIn(form, plain, longer)).toBe(true)
        expect(sameIn(form, plain, `${n + 1n}e-${point}`)).toBe(false)
      },
    ),
  )
  expect(normalIn({ kind: 'number', decimals: 2 }, '1.005')).toBe(normalIn(form, '1.01'))
  expect(normalIn({ kind: 'number', decimals: 2 }, '-0.004')).toBe(normalIn(form, '0'))
})

test('what a record refers to is waited for, and completed once it is there', () => {
  const join = compileJoin(
    { a: 'f', b: 'g', direction: 'both', rule: { as: 'found' }, conflict: 'ask', against: 'left' },
    { a: { kind: 'other' }, b: { kind: 'other' } },
  )
  const lane = laneOf([join], { tie: 'a', first: 'a' })
  let there = false
  const record = {
    now: { a: ['p1'], b: [null] },
    base: { a: [undefined], b: [undefined] },
    changedAt: { a: () => null, b: () => null },
    wordsOf: () => null,
    origin: 'a' as const,
    find: () => (there ? { is: 'q1' } : ('not yet' as const)),
  }
  const [first] = mergeRecord(lane, record)
  expect(first).toEqual({ join: 0, comes: 'later' })
  const agreed = agreedAfter(record, [first!], { a: () => null, b: () => null })
  there = true
  expect(mergeRecord(lane, { ...record, base: agreed })).toEqual([
    { join: 0, comes: 'written', b: 'q1', why: 'first values' },
  ])
})
