/**
 * A million pairs of 12 fields through the three-way merge on one core: 5 % changed on the one side, 5 % on the other, 0.5 % on both. The limit is the
 * rate that the design asks for.
 */
import type { Form, Value } from '@tide/core/merge/form'
import { agreedAfter, compileJoin, mergeRecord, type FieldJoin, type LaneMerge } from '@tide/core/merge/merge'
import type { Rule, Side } from '@tide/core/merge/rule'
import { say } from './bed.ts'

const PAIRS = 1_000_000
const CHUNK = 10_000
const WANTED = 200_000

const text: Form = { kind: 'text', trims: true }
const STATUS = {
  pairs: [
    { a: 'new', b: 'to do' },
    { a: 'ready', b: 'to do', first: true as const },
    { a: 'doing', b: 'in hand' },
    { a: 'done', b: 'done' },
  ],
  others: 'held' as const,
}

const day = (n: number) => `2026-11-${String(1 + (n % 29)).padStart(2, '0')}`

/** What a field is, and two values of it in each side's own words. */
const FIELDS: {
  rule?: Rule
  forms?: Record<Side, Form>
  values: [a: (n: number) => string, b: (n: number) => string]
}[] = [
  { values: [n => `Mend the gate ${n}`, n => `Mend the gate ${n}`] },
  {
    rule: { as: 'affixed', affix: { on: 'b', before: '{key} ', behind: '' } },
    values: [n => `Water the beds ${n}`, n => `K-${n} Water the beds ${n}`],
  },
  {
    rule: { as: 'mapped', map: STATUS },
    values: [n => (n % 2 ? 'ready' : 'done'), n => (n % 2 ? 'to do' : 'done')],
  },
  {
    rule: { as: 'set', others: 'made there' },
    forms: { a: { kind: 'set' }, b: { kind: 'set' } },
    values: [n => `["frost","bed ${n % 40}"]`, n => `["frost","bed ${n % 40}"]`],
  },
  { rule: { as: 'found' }, values: [n => `person-${n % 30}`, n => `person-${n % 30}`] },
  {
    forms: { a: { kind: 'number' }, b: { kind: 'number', decimals: 2 } },
    values: [n => `${n}.25`, n => `${n}.25`],
  },
  {
    forms: { a: { kind: 'moment' }, b: { kind: 'moment', everyMs: 1000 } },
    values: [
      n => `2026-11-30T10:00:${String(n % 60).padStart(2, '0')}.000Z`,
      n => `2026-11-30T10:00:${String(n % 60).padStart(2, '0')}Z`,
    ],
  },
  { forms: { a: { kind: 'date' }, b: { kind: 'date' } }, values: [day, day] },
  ...Array.from({ length: 4 }, (_, i) => ({
    values: [(n: number) => `field ${i} of ${n}`, (n: number) => `field ${i} of ${n}`] as [
      (n: number) => string,
      (n: number) => string,
    ],
  })),
]

const joins = FIELDS.map(({ rule = { as: 'it is' }, forms = { a: text, b: text } }, i) => {
  const join: FieldJoin = {
    a: `a${i}`,
    b: `b${i}`,
    direction: 'both',
    rule,
    conflict: 'the later',
    against: 'left',
  }
  return compileJoin(join, forms)
})
const lane: LaneMerge = { joins, tie: 'a', first: 'the later' }

/** A text that shares nothing with another of the same letters, as those that come from a store and from an app. */
const anew = (value: string) => Buffer.from(value).toString('utf8')

function chunkOf(begin: number) {
  return Array.from({ length: CHUNK }, (_, i) => {
    const n = begin + i
    const changes = { a: n % 20 === 0 || n % 200 === 5, b: n % 20 === 10 || n % 200 === 5 }
    const base = { a: FIELDS.map(({ values }) => values[0](n)), b: FIELDS.map(({ values }) => values[1](n)) }
    const now = { a: base.a.map(anew) as Value[], b: base.b.map(anew) as Value[] }
    // One field of each that has changed; where both have, the same one.
    const field = Math.floor(n / 20) % FIELDS.length
    if (changes.a) now.a[field] = FIELDS[field]!.values[0](n + 1)
    if (changes.b) now.b[field] = FIELDS[field]!.values[1](n + 3)
    return {
      now,
      base,
      changedAt: { a: () => n, b: () => n + 1 },
      wordsOf: () => `K-${n}`,
      origin: 'a' as const,
      find: (_: number, value: string) => ({ is: value }),
    }
  })
}

let [milliseconds, changed, written] = [0, 0, 0]
for (let begin = 0; begin < PAIRS; begin += CHUNK) {
  const records = chunkOf(begin)
  const began = performance.now()
  for (const record of records) {
    const outcomes = mergeRecord(lane, record)
    if (outcomes.length === 0) continue
    changed++
    const write = (side: Side) => (join: number) => {
      const outcome = outcomes.find(one => one.join === join)
      return (outcome?.comes === 'written' && outcome[side]) || null
    }
    agreedAfter(record, outcomes, { a: write('a'), b: write('b') })
    written += outcomes.filter(({ comes }) => comes === 'written').length
  }
  milliseconds += performance.now() - began
}
const rate = PAIRS / (milliseconds / 1000)
if (changed < PAIRS * 0.1 || written < PAIRS * 0.09)
  throw new Error(`only ${changed} changed, ${written} written`)
say(
  `merge: ratio ${(rate / WANTED).toFixed(2)} (ours ${Math.round(rate)} pairs/s, limit ${WANTED} pairs/s; to reach: at least 1; ${changed} pairs changed, ${written} fields written)`,
)
