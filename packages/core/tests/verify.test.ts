import { describe, expect, test } from '@jest/globals'
import fc from 'fast-check'
import type { Lane } from '../src/plan/lane.ts'
import type { Column } from '../src/records/column.ts'
import { csvLine } from '../src/records/csv.ts'
import type { LogicalType } from '../src/records/types.ts'
import { keyText, type Row } from '../src/records/value.ts'
import { compareText } from '../src/scope/order.ts'
import { orderedComparison } from '../src/verify/ordered-comparison.ts'
import { verdict, type Expected } from '../src/verify/verdict.ts'
import { verifiedLane, type VerifiedLane } from '../src/verify/verified-lane.ts'

const column = (name: string, type: LogicalType, nativeType: string): Column => ({
  name,
  type,
  nativeType,
  nullable: true,
})
const lane = (key: Column, keyAtTarget = key): Lane => {
  const reads = [
    key,
    column('note', { kind: 'utf8' }, 'text'),
    column('price', { kind: 'decimal' }, 'numeric'),
  ]
  const writes = [keyAtTarget, ...reads.slice(1)].map(one => ({
    ...one,
    value: { from: 'column' as const, column: one.name },
  }))
  return {
    source: { namespace: 's', name: 't' },
    target: { namespace: 's', name: 't' },
    reads,
    identity: ['id'],
    writes,
    key: ['id'],
    scope: null,
    rows: 0,
    rowsExact: true,
    bytes: 0,
  }
}
const numbers = lane(column('id', { kind: 'int', bits: 32, signed: true }, 'integer'))
const texts = lane(column('id', { kind: 'utf8' }, 'text'))
const shaping = { origin: '', hash: (text: string) => text }
const verified = (of: Lane) => verifiedLane(of, shaping) as VerifiedLane

async function* cut(text: string, at: readonly number[]): AsyncGenerator<Uint8Array> {
  const bytes = Buffer.from(text)
  let from = 0
  for (const size of at) {
    yield bytes.subarray(from, from + size)
    from += size
  }
  yield bytes.subarray(from)
}

const sameBytes = (a: Uint8Array, aAt: number, b: Uint8Array, bAt: number, length: number) =>
  Buffer.from(a.subarray(aAt, aAt + length)).equals(b.subarray(bAt, bAt + length))

async function compared(of: VerifiedLane, here: Row[], there: Row[], parts: readonly number[]) {
  const side = (rows: Row[], parts: readonly number[]) => cut(rows.map(csvLine).join(''), parts)
  const total = { atSource: 0, atTarget: 0, equal: 0, questions: new Set<string>() }
  for await (const told of orderedComparison(
    side(here, parts),
    side(there, [...parts].reverse()),
    of,
    sameBytes,
  )) {
    total.atSource += told.atSource
    total.atTarget += told.atTarget
    total.equal += told.equal
    for (const { key } of told.questions) total.questions.add(keyText(key))
  }
  return total
}

const note = fc.option(fc.string({ unit: fc.constantFrom('a', '"', ',', '\n', '🌱', '\\', ' ') }))
const price = fc.constantFrom('1', '1.0', '1.10', '1.1', '-0.5')
const rows = (key: fc.Arbitrary<string>) =>
  fc.uniqueArray(fc.tuple(key, note, price), { selector: ([id]) => id, maxLength: 40 })
const parts = fc.array(fc.nat(30), { maxLength: 60 })
const sameButPrice = (a: string, b: string) => Number(a) === Number(b)

/** Keys of which the sides do not say the same. */
function differing(here: readonly Row[], there: readonly Row[]): Set<string> {
  const left = new Map(here.map(row => [row[0]!, row]))
  const right = new Map(there.map(row => [row[0]!, row]))
  return new Set(
    [...left.keys(), ...right.keys()].filter(id => {
      const [a, b] = [left.get(id), right.get(id)]
      return !a || !b || a[1] !== b[1] || !sameButPrice(a[2]!, b[2]!)
    }),
  )
}

describe('two sides in the order of their keys', () => {
  test.each([
    [
      'numbers',
      numbers,
      fc.integer({ min: -50, max: 50 }).map(String),
      (a: string, b: string) => Number(a) - Number(b),
    ],
    [
      'texts',
      texts,
      fc.string({ unit: fc.constantFrom('a', 'B', '', '🌱', '"'), maxLength: 3 }),
      compareText,
    ],
  ] as const)(
    'by %s: just what differs is in question, however the bytes are cut',
    async (_, of, key, order) => {
      await fc.assert(
        fc.asyncProperty(rows(key), rows(key), fc.array(fc.boolean()), parts, async (a, b, taken, cuts) => {
          const sorted = (rows: Row[]) => [...rows].sort((x, y) => order(x[0]!, y[0]!))
          // Most rows are the same on both sides.
          const ids = new Set(a.map(([id]) => id))
          const there = [...a.filter((_, i) => taken[i] !== false), ...b.filter(([id]) => !ids.has(id))]
          const { questions, equal, atSource, atTarget } = await compared(
            verified(of),
            sorted(a),
            sorted(there),
            cuts,
          )
          const wanted = differing(a, there)
          expect(questions).toEqual(wanted)
          expect([atSource, atTarget]).toEqual([a.length, there.length])
          expect(equal).toBe(a.filter(([id]) => !wanted.has(id)).length)
        }),
      )
    },
  )

  test('in any order, nothing that differs is missed', async () => {
    const key = fc.integer({ min: 0, max: 9 }).map(String)
    await fc.assert(
      fc.asyncProperty(rows(key), rows(key), parts, async (a, b, cuts) => {
        const { questions } = await compared(verified(numbers), a, b, cuts)
        for (const id of differing(a, b)) expect(questions).toContain(id)
      }),
    )
  })

  test('a row that is there twice is in question', async () => {
    const one: Row = ['1', 'a', '1']
    const { questions, equal } = await compared(verified(numbers), [one], [one, one], [])
    expect([[...questions], equal]).toEqual([['1'], 1])
  })
})

describe('by which key', () => {
  test('numbers by their value, but for those that are texts at the target', () => {
    const unbounded = column('id', { kind: 'decimal' }, 'numeric')
    expect(verified(lane(unbounded)).order).toEqual(['number'])
    expect(verified(lane(unbounded, { ...unbounded, nativeType: 'VARCHAR' })).order).toEqual(['text'])
  })

  test('a key that is masked finds no row', () => {
    const masked: Lane = {
      ...texts,
      writes: [{ ...texts.writes[0]!, value: { from: 'masked', column: 'id', how: { mask: 'hash' } } }],
    }
    expect(verifiedLane(masked, shaping)).toEqual({
      because: 'its key id is not taken from the source as it is',
    })
  })
})

describe('what is said of a row in question', () => {
  const a: Row = ['1', 'a', '1']
  const b: Row = ['1', 'b', '1']
  test.each<[string, Expected, Row[], Expected, ReturnType<typeof verdict>]>([
    ['both sides have it', a, [a], a, { agree: true, equal: true }],
    ['neither has', 'none', [], 'none', { agree: true, equal: false }],
    ['the target is as the source was before', a, [a], b, { agree: true, equal: true }],
    ['the source has moved on, and the target is neither', a, [['1', 'c', '1']], b, 'again'],
    ['the source stood still', a, [b], a, { agree: false, kind: 'different', columns: [1] }],
    ['it came meanwhile', 'none', [], a, { agree: true, equal: false }],
    ['it is missing', a, [], a, { agree: false, kind: 'only source', columns: [] }],
    ['nobody put it there', 'none', [a], 'none', { agree: false, kind: 'only target', columns: [] }],
    ['it went meanwhile, and is there no more', a, [], 'none', { agree: true, equal: false }],
    ['it is there twice', a, [a, a], a, { agree: false, kind: 'different', columns: [] }],
    [
      'no row can be made of it',
      'no value',
      [a],
      'no value',
      { agree: false, kind: 'different', columns: [] },
    ],
    ['time moves it into its scope', 'moving', [], 'moving', 'again'],
  ])('%s', (_, before, there, after, said) => {
    expect(verdict(numbers, before, there, after)).toEqual(said)
  })
})
