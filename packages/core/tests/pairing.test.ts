import { expect, test } from '@jest/globals'
import fc from 'fast-check'
import type { Value } from '../src/merge/form.ts'
import { keyOf, pairUp, type PairedUp } from '../src/pairing/pair-up.ts'
import type { PairingRecord, PairingRule } from '../src/pairing/rule.ts'

interface Person {
  id: string
  mail: Value
  name: Value
  town: Value
}

const asRecord = ({ id, ...fields }: Person): PairingRecord => ({
  id,
  fieldOf: field => (fields as Record<string, Value>)[field] ?? null,
})

const RULES: PairingRule[] = [
  { fields: [{ a: 'mail', b: 'mail', alike: ['case', 'spaces'] }] },
  {
    fields: [
      { a: 'name', b: 'name', alike: ['case', 'spaces'] },
      { a: 'town', b: 'town', alike: ['case', 'spaces'] },
    ],
  },
]

const some = (texts: string[]) => fc.option(fc.constantFrom(...texts), { freq: 4 })
const people = (prefix: string) =>
  fc
    .array(
      fc.record({
        mail: some(['ada@example.org', 'Ada@Example.org ', 'bram@example.org', 'cora@example.org']),
        name: some(['Ada Fenwick', 'ada  fenwick', 'Bram Oakes', 'Bràm Oakes', 'Cora']),
        town: some(['Alderbank', 'Thornby']),
      }),
      { maxLength: 8 },
    )
    .map(all => all.map((one, i): Person => ({ id: `${prefix}${i}`, ...one })))

const up = (a: Person[], b: Person[]) => pairUp({ a: a.map(asRecord), b: b.map(asRecord) }, RULES)

test('each record is in one pair at most, both are the same by its rule, and nobody else is', () => {
  fc.assert(
    fc.property(people('a'), people('b'), (a, b) => {
      const { pairs, doubles, near, left } = up(a, b)
      const [as, bs] = [pairs.map(pair => pair.a), pairs.map(pair => pair.b)]
      expect(new Set(as).size).toBe(as.length)
      expect(new Set(bs).size).toBe(bs.length)
      expect([...as, ...left.a].sort()).toEqual(a.map(({ id }) => id).sort())
      expect([...bs, ...left.b].sort()).toEqual(b.map(({ id }) => id).sort())
      const record = (all: Person[], id: string) => asRecord(all.find(one => one.id === id)!)
      for (const pair of pairs) {
        const [one, two] = [
          keyOf(record(a, pair.a), RULES[pair.rule]!, 'a'),
          keyOf(record(b, pair.b), RULES[pair.rule]!, 'b'),
        ]
        expect(one).toBeDefined()
        expect(one).toEqual(two)
      }
      // By the first rule nothing is guessed: where two have the same mail on a side, it pairs nobody.
      const first = pairs.filter(({ rule }) => rule === 0)
      for (const pair of first) {
        const mail = keyOf(record(a, pair.a), RULES[0]!, 'a')![0]
        for (const all of [a, b])
          expect(all.filter(one => keyOf(asRecord(one), RULES[0]!, 'a')?.[0] === mail)).toHaveLength(1)
      }
      for (const { a: some, b: others } of doubles) expect(some.length + others.length).toBeGreaterThan(1)
      // What is shown to a person is left for that person.
      for (const { a: one, b: two } of near)
        expect([left.a.includes(one), left.b.includes(two)]).toEqual([true, true])
    }),
    { numRuns: 1000 },
  )
})

test('the order of the records makes no difference, nor which side is which', () => {
  const turned = ({ pairs, doubles, left }: PairedUp) => ({
    pairs: new Set(pairs.map(({ a, b, rule }) => `${b} ${a} ${rule}`)),
    doubles: new Set(doubles.map(({ a, b, rule }) => JSON.stringify([rule, b, a]))),
    left: { a: left.b, b: left.a },
  })
  const plain = ({ pairs, doubles, left }: PairedUp) => ({
    pairs: new Set(pairs.map(({ a, b, rule }) => `${a} ${b} ${rule}`)),
    doubles: new Set(doubles.map(({ a, b, rule }) => JSON.stringify([rule, a, b]))),
    left,
  })
  fc.assert(
    fc.property(people('a'), people('b'), (a, b) => {
      const once = up(a, b)
      expect(up(a.toReversed(), b.toReversed())).toEqual(once)
      expect(turned(up(b, a))).toEqual(plain(once))
    }),
    { numRuns: 500 },
  )
})

test('doubles of an earlier rule that are the same by a later one stand in an order of their own', () => {
  const people = (prefix: string, mails: Value[]) =>
    mails.map((mail, i): Person => ({ id: `${prefix}${i}`, mail, name: 'Ada Fenwick', town: 'Thornby' }))
  const a = people('a', [null, null, 'ada@example.org'])
  const b = people('b', ['ada@example.org', null, 'ada@example.org'])
  const { doubles } = up(a, b)
  expect(doubles.filter(({ rule }) => rule === 1).map(one => one.a)).toEqual([['a0', 'a1'], ['a2']])
  expect(up(a.toReversed(), b.toReversed()).doubles).toEqual(doubles)
})

test('doubles are told apart by a later rule, among themselves alone; almost the same is for a person', () => {
  const person = (id: string, mail: Value, name: Value, town: Value = 'Thornby'): Person => ({
    id,
    mail,
    name,
    town,
  })
  const found = up(
    [
      person('a1', 'office@example.org', 'Ada Fenwick'),
      person('a2', 'office@example.org', 'Bram Oakes'),
      person('a3', null, 'Cora Lindqvist'),
      person('a4', null, 'Dev Marlow'),
      person('a5', 'elin@example.org', 'Elin'),
    ],
    [
      person('b1', 'Office@example.org', 'ada  fenwick'),
      person('b2', 'office@example.org', 'Somebody'),
      person('b3', null, 'Bram Oakes'),
      person('b4', null, 'Cora Lindkvist'),
      person('b5', null, 'Dév Marlow'),
      person('b6', 'elin@example.org', 'Finn'),
      person('b7', 'elin@example.org', 'Garrick'),
    ],
  )
  // Bram has the mail of others at the one side: whoever is called so at the other is none of them.
  expect(found.pairs).toEqual([{ a: 'a1', b: 'b1', rule: 1 }])
  expect(found.doubles).toEqual([
    { rule: 0, by: ['elin@example.org'], a: ['a5'], b: ['b6', 'b7'] },
    { rule: 0, by: ['office@example.org'], a: ['a2'], b: ['b2'] },
  ])
  expect(found.near).toEqual([
    { rule: 1, a: 'a3', b: 'b4' },
    { rule: 1, a: 'a4', b: 'b5' },
  ])
  expect(found.left.b).toEqual(['b2', 'b3', 'b4', 'b5', 'b6', 'b7'])
})
