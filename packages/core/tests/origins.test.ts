import { describe, expect, test } from '@jest/globals'
import { samplesTogether, statusTogether } from '@tide/core/api/together'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import { fromOf, originsOf, tagFor } from '@tide/core/definition/origins'
import { laneOf, type PipelineRecord } from '@tide/core/definition/pipeline'
import { hinders } from '@tide/core/plan/note'
import type { PlanInput } from '@tide/core/plan/input'
import { makePlan } from '@tide/core/plan/plan'
import type { Dataset, Field } from '@tide/core/records/dataset'
import type { LogicalType } from '@tide/core/records/types'
import { widest } from '@tide/core/records/widest'
import { duckdbColumn } from '@tide/core/shape/duckdb'
import fc from 'fast-check'

const int = (bits: 8 | 16 | 32 | 64, signed = true): LogicalType => ({ kind: 'int', bits, signed })
const field = (name: string, type: LogicalType = int(32), nullable = false): Field => ({
  name,
  type,
  nativeType: JSON.stringify(type),
  nullable,
})
const beds = (fields: Field[], key = ['id']): Dataset => ({
  namespace: 'site',
  name: 'beds',
  kind: 'table',
  fields,
  key,
  rows: 5,
  rowsExact: true,
  bytes: 10,
})
const planOf = (sources: Record<string, Dataset[]>, part: Partial<PlanInput> = {}) =>
  makePlan({
    tables: [{ namespace: 'site', name: 'beds' }],
    targetSchema: 'w',
    names: [],
    origins: Object.entries(sources).map(([tag, source]) => ({ tag, source, sameKind: false })),
    target: [],
    targetSchemas: ['w'],
    profile: {
      naming: { fold: 'upper', allowed: 'any', maxLength: 60 },
      typeOf: duckdbColumn,
      nameKey: name => name.toLowerCase(),
      needsKey: 'unique',
      keepsOthers: true,
    },
    claims: [],
    own: [],
    ...part,
  })
const refusals = (...args: Parameters<typeof planOf>) =>
  planOf(...args)
    .notes.filter(hinders)
    .map(({ message }) => message)

describe('a plan of several origins', () => {
  test('has a lane for each into one table, told apart by a column in the key', () => {
    const fields = [field('id'), field('n')]
    const plan = planOf({ a: [beds(fields)], b: [beds(fields)] })
    expect(plan.notes).toEqual([])
    expect(plan.lanes.map(({ origin, key }) => [origin, key])).toEqual([
      ['a', ['ORIGIN', 'ID']],
      ['b', ['ORIGIN', 'ID']],
    ])
    expect(plan.steps.map(({ step }) => step)).toEqual(['create table'])
    expect(plan.rows).toBe(10)
  })

  test('what only one has is null for the others', () => {
    const plan = planOf({ a: [beds([field('id'), field('n')])], b: [beds([field('id'), field('m')])] })
    const [a, b] = plan.lanes
    expect(a!.writes.map(({ name, nullable }) => [name, nullable])).toEqual(
      b!.writes.map(({ name, nullable }) => [name, nullable]),
    )
    expect(a!.writes.find(({ name }) => name === 'M')!.value).toEqual({ from: 'constant', value: null })
    expect(plan.notes.map(({ message }) => message).sort()).toEqual([
      'site.beds.m is only at b.',
      'site.beds.n is only at a.',
    ])
  })

  test('takes the widest type, so that the table holds the rows of all', () => {
    const plan = planOf({ a: [beds([field('id', int(16))])], b: [beds([field('id', int(64))])] })
    expect(plan.lanes.map(({ writes }) => writes[1]!.nativeType)).toEqual(['BIGINT', 'BIGINT'])
  })

  test.each<[string, Parameters<typeof planOf>, RegExp]>([
    [
      'keys that differ',
      [
        {
          a: [beds([field('id'), field('n')])],
          b: [beds([field('id'), field('n')], ['id', 'n'])],
        },
      ],
      /The key of site.beds is ID at a and ID, N at b/,
    ],
    [
      'types that nothing takes both of',
      [{ a: [beds([field('id')])], b: [beds([field('id', { kind: 'utf8' })])] }],
      /site.beds.id is int32 at a and text at b/,
    ],
    [
      'a column named like the origin column',
      [{ a: [beds([field('id'), field('origin')])], b: [beds([field('id')])] }],
      /has a column ORIGIN already/,
    ],
  ])('%s are refused', (_, args, message) => {
    expect(refusals(...args)).toEqual([expect.stringMatching(message)])
  })

  test('a table that no origin has any more is refused; one that some have is not', () => {
    expect(refusals({ a: [], b: [] })).toEqual(['site.beds is not there any more.'])
    expect(refusals({ a: [], b: [beds([field('id')])] })).toEqual([])
  })
})

test('the widest type holds the values of both, whichever comes first', () => {
  const bits = fc.constantFrom(8 as const, 16 as const, 32 as const, 64 as const)
  const ints = fc.tuple(bits, fc.boolean())
  const range = ([width, signed]: [number, boolean]) =>
    signed ? [-(2n ** BigInt(width - 1)), 2n ** BigInt(width - 1) - 1n] : [0n, 2n ** BigInt(width) - 1n]
  fc.assert(
    fc.property(ints, ints, (a, b) => {
      const wide = widest(int(...a), int(...b))!
      expect(wide).toEqual(widest(int(...b), int(...a)))
      const [least, most] =
        wide.kind === 'int'
          ? range([wide.bits, wide.signed])
          : [-(10n ** 20n) + 1n, 10n ** BigInt((wide as { precision: number }).precision) - 1n]
      for (const one of [a, b]) {
        expect(range(one)[0]! >= least!).toBe(true)
        expect(range(one)[1]! <= most!).toBe(true)
      }
    }),
  )
})

test('tags are never the same, whatever connections are called', () => {
  fc.assert(
    fc.property(fc.array(fc.string({ maxLength: 4 }), { minLength: 2, maxLength: 6 }), names => {
      const origins = names.reduce<{ connection: string; tag: string }[]>(
        (before, name, n) => [...before, { connection: String(n), tag: tagFor(name, before) }],
        [],
      )
      expect(new Set(origins.map(({ tag }) => tag)).size).toBe(names.length)
      expect(originsOf({ from: fromOf(origins) })).toEqual(origins)
    }),
  )
})

describe('of several origins', () => {
  const status = (part: Partial<PipelineStatus>) =>
    ({
      state: 'Following',
      wanted: 'run',
      reason: null,
      retry: null,
      lagSeconds: 1,
      delay: { journal: 0, target: 1 },
      backlog: 2,
      strip: [1, null],
      sample: null,
      lanes: [],
      completeUpTo: '2026-05-02T00:00:00Z',
      consistent: true,
      ...part,
    }) as PipelineStatus
  const together = (...parts: Partial<PipelineStatus>[]) =>
    statusTogether(
      { id: 'p', definition: {} as PipelineStatus['definition'], startedAt: null, detailedUntil: null },
      [],
      parts.map((part, n) => ({ tag: `t${n}`, connection: `c${n}`, status: status(part) })),
    )

  test('the worst is said, and what one does not know is unknown', () => {
    expect(together({}, { lagSeconds: 9, backlog: 3 })).toMatchObject({ lagSeconds: 9, backlog: 5 })
    expect(together({}, { lagSeconds: null, backlog: null, delay: null })).toMatchObject({
      lagSeconds: null,
      backlog: null,
      delay: null,
    })
    expect(together({}, { completeUpTo: null }).completeUpTo).toBeNull()
    expect(together({}, { completeUpTo: '2026-05-01T00:00:00Z', consistent: false })).toMatchObject({
      completeUpTo: '2026-05-01T00:00:00Z',
      consistent: false,
    })
    expect(together({}, { strip: [4, 5] }).strip).toEqual([4, null])
  })

  test('one that stopped for a reason is told of while the others follow', () => {
    const reason = { kind: 'structural' as const, message: 'gone', remedy: 'r', at: '' }
    const whole = together({}, { state: 'Stopped', reason })
    expect(whole).toMatchObject({ state: 'Following', reason: { message: 't1: gone' } })
    expect(together({ state: 'Stopped' }, { state: 'Stopped', reason })).toMatchObject({ state: 'Stopped' })
  })

  test('readings add up from when all are known, and a silent origin keeps its last', () => {
    const at = (second: number, committed: number, landed: number) => ({
      at: second * 1000 + 7,
      committed,
      landed,
      copied: 3,
      lag: 1,
    })
    expect(samplesTogether([[at(1, 5, 5), at(2, 6, 5), at(3, 7, 7)], [at(2, 100, 90)]], 1000)).toEqual([
      { at: 2000, committed: 106, landed: 95, copied: 6, lag: 1 },
      { at: 3000, committed: 107, landed: 97, copied: 6, lag: null },
    ])
  })

  test('a lane is its origin’s, by its place among theirs', () => {
    const lanes = ['a', 'b', 'a', 'b'].map(origin => ({ origin, source: { namespace: '', name: '' } }))
    const origins = ['a', 'b'].map(origin => ({ origin }))
    const record = { lanes, origins } as unknown as PipelineRecord
    expect(
      [0, 1, 2, 3, 4].map(index => laneOf(record, index)).map(one => one && [one.run.origin, one.index]),
    ).toEqual([['a', 0], ['b', 0], ['a', 1], ['b', 1], undefined])
  })
})
