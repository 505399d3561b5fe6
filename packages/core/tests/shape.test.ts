import { describe, expect, test } from '@jest/globals'
import { shapedEffect } from '@tide/core/apply/effect'
import { IdentityFold, type FoldedKey } from '@tide/core/apply/fold'
import type { Lane, WrittenColumn } from '@tide/core/plan/lane'
import type { ChangeEvent, SourceTransaction } from '@tide/core/records/change'
import type { Column } from '@tide/core/records/column'
import { csvLine, CsvWriter } from '@tide/core/records/csv'
import { filledRow, packedKey, packRow, pickedRow, unpackRow, unsentIn } from '@tide/core/records/tuple'
import { keyText, type Key, type Row, type Value } from '@tide/core/records/value'
import { laneShaper } from '@tide/core/shape/row'
import fc from 'fast-check'

const column = (name: string) => ({
  name,
  type: { kind: 'utf8' } as const,
  nativeType: 'text',
  nullable: true,
})
const written = (name: string, value: WrittenColumn['value']): WrittenColumn => ({ ...column(name), value })
const taken = (name: string, from: string) => written(name, { from: 'column', column: from })
const TRANSACTION: SourceTransaction = { id: 'x', start: '0/10', at: '2026-11-20T10:00:00Z', events: [] }

const HERE = { origin: '', hash: (text: string) => text }
const NOW = '2026-11-20T10:00:05Z'

const READS = ['id', 'bed', 'note']
const lane = (writes: WrittenColumn[], key: string[]): Lane => ({
  source: { namespace: 's', name: 't' },
  target: { namespace: 'w', name: 't' },
  reads: READS.map(column),
  identity: ['id'],
  writes,
  key,
  scope: null,
  rows: 0,
  rowsExact: true,
  bytes: 0,
})

const state = (known: Partial<FoldedKey>): FoldedKey => ({
  identity: ['1'],
  after: undefined,
  from: undefined,
  before: undefined,
  images: undefined,
  untold: false,
  transaction: TRANSACTION,
  number: 3,
  op: 'update',
  ...known,
})

const ASIS = lane(
  READS.map(name => taken(name, name)),
  ['id'],
)

describe('a lane’s shaping', () => {
  test('columns that are merely taken pass as the bytes they came in', () => {
    const after = packRow(['1', 'b', 'n'])
    const shaped = laneShaper(ASIS, HERE).shape(state({ after }), NOW)
    expect('removed' in shaped && 'put' in shaped && shaped.put!.row).toBe(after)
  })

  test('takes, leaves out, renames, and writes constants, origin and metadata', () => {
    const shaper = laneShaper(
      lane(
        [
          taken('number', 'id'),
          written('source', { from: 'origin' }),
          written('kind', { from: 'constant', value: 'bed' }),
          written('nothing', { from: 'constant', value: null }),
          taken('remark', 'note'),
          written('op', { from: 'metadata', what: 'operation' }),
          written('at', { from: 'metadata', what: 'committed at' }),
          written('place', { from: 'metadata', what: 'position' }),
        ],
        ['source', 'number'],
      ),
      { ...HERE, origin: 'north' },
    )
    const shaped = shaper.shape(state({ after: packRow(['1', 'b', 'n']) }), NOW)
    if (!('put' in shaped)) throw new Error('not shaped')
    expect(unpackRow(shaped.put!.row)).toEqual([
      '1',
      'north',
      'bed',
      null,
      'n',
      'update',
      '2026-11-20 10:00:00+00',
      TRANSACTION.start,
    ])
    expect(shaped.put!.key).toEqual(['north', '1'])
    expect(shaper.shape(state({}), NOW)).toEqual({ removed: [['north', '1']] })
  })

  test('a change of a column in the target’s key is a removal under the old and a put under the new', () => {
    const shaper = laneShaper(lane([taken('bed', 'bed'), taken('id', 'id')], ['bed', 'id']), HERE)
    const [before, after] = [packRow(['1', 'a', null]), packRow(['1', 'b', null])]
    expect(shaper.shape(state({ before, after, images: [before, after] }), NOW)).toMatchObject({
      removed: [['a', '1']],
      put: { key: ['b', '1'] },
    })
    // What the source does not tell of the row before, nobody can remove.
    expect(shaper.shape(state({}), NOW)).toEqual({
      misfit: { column: 'bed', reason: 'the source does not tell what it was before', untold: true },
    })
    expect(shaper.shape(state({ after: packRow(['1', null, null]) }), NOW)).toMatchObject({
      misfit: { column: 'bed' },
    })
    expect(shaper.shape(state({ after: packRow(['1', undefined, 'n']), from: ['1'] }), NOW)).toEqual({
      needs: ['bed'],
      removed: [],
    })
  })

  test('two rows of the source that would be one at the target are both told, and neither is put', () => {
    const shaper = laneShaper(lane([taken('bed', 'bed'), taken('note', 'note')], ['bed']), HERE)
    const fold = new IdentityFold([0])
    const insert = (id: string, bed: string, number: number): ChangeEvent => ({
      op: 'insert',
      lane: 0,
      number,
      after: packRow([id, bed, null]),
    })
    ;[insert('1', 'a', 0), insert('2', 'a', 1), insert('3', 'c', 2)].forEach(one =>
      fold.add(one, TRANSACTION),
    )
    const { effect, misfits } = shapedEffect(fold, shaper, NOW)
    expect(effect.puts.map(({ key }) => key)).toEqual([['c']])
    expect(misfits.map(({ identity }) => identity)).toEqual([['1'], ['2']])
    expect(misfits[0]!.misfit.reason).toContain('the rows 1 and 2 of the source would both be the row a')
  })

  test('with another key at the target, any history leaves the rows that it should', () => {
    // Rows keep their bed for themselves, so that no two meet under one key.
    const steps = fc.array(
      fc.record({
        id: fc.integer({ min: 1, max: 3 }),
        bed: fc.integer({ min: 1, max: 3 }),
        gone: fc.boolean(),
      }),
      { maxLength: 20 },
    )
    const shaper = laneShaper(
      lane([taken('bed', 'bed'), taken('id', 'id'), taken('note', 'note')], ['bed', 'id']),
      HERE,
    )
    fc.assert(
      fc.property(steps, fc.integer({ min: 1, max: 6 }), (rolls, size) => {
        const rows = new Map<string, Row>()
        const there = new Map<string, Row>()
        let fold = new IdentityFold([0], [])
        const land = () => {
          const { effect, needs, misfits } = shapedEffect(fold, shaper, NOW)
          expect([needs, misfits]).toEqual([[], []])
          for (const key of effect.removed) there.delete(keyText(key))
          for (const { key, row } of effect.puts) there.set(keyText(key), unpackRow(row))
          fold = new IdentityFold([0], [])
        }
        rolls.forEach(({ id, bed, gone }, number) => {
          const before = rows.get(String(id))
          const row: Row = [String(id), String(bed), `n${number}`]
          const place = { lane: 0, number }
          if (gone && before) fold.add({ op: 'delete', ...place, before: packRow(before) }, TRANSACTION)
          else if (gone) return
          else if (before)
            fold.add({ op: 'update', ...place, before: packRow(before), after: packRow(row) }, TRANSACTION)
          else fold.add({ op: 'insert', ...place, after: packRow(row) }, TRANSACTION)
          if (gone) rows.delete(String(id))
          else rows.set(String(id), row)
          if (number % size === 0) land()
        })
        land()
        const expected = [...rows.values()].map(([id, bed, note]) => [bed, id, note])
        expect([...there.values()].sort()).toEqual(expected.sort())
      }),
    )
  })
})

describe('a key at the target that is not the source’s own', () => {
  const shaper = laneShaper(
    lane([taken('bed', 'bed'), taken('note', 'note'), taken('id', 'id')], ['bed']),
    HERE,
  )
  const steps = fc.array(
    fc.record({
      id: fc.integer({ min: 1, max: 4 }),
      bed: fc.integer({ min: 1, max: 5 }),
      gone: fc.boolean(),
      /** A large value that was not changed is not told. */
      unsent: fc.boolean(),
    }),
    { maxLength: 30 },
  )

  test('any history leaves the rows that it should, also where rows were fetched that are newer', () => {
    fc.assert(
      fc.property(steps, fc.integer({ min: 1, max: 8 }), (rolls, size) => {
        const rows = new Map<string, Row>()
        const events = rolls.flatMap(({ id, bed, gone, unsent }, number): ChangeEvent[] => {
          const before = rows.get(String(id))
          const place = { lane: 0, number }
          // The source keeps beds apart.
          if (!gone && [...rows.values()].some(([other, its]) => other !== String(id) && its === String(bed)))
            return []
          if (gone) {
            rows.delete(String(id))
            return before ? [{ op: 'delete', ...place, before: packRow(before) }] : []
          }
          const note = before && unsent ? before[2]! : `n${number}`
          const row = [String(id), String(bed), note]
          rows.set(String(id), row)
          if (!before) return [{ op: 'insert', ...place, after: packRow(row) }]
          const after = packRow(unsent ? [row[0]!, row[1]!, undefined] : row)
          return [{ op: 'update', ...place, before: packRow(before), after }]
        })
        const there = new Map<string, Row>()
        for (let from = 0; from < events.length; from += size) {
          const fold = new IdentityFold([0], shaper.keyBeyond)
          for (const event of events.slice(from, from + size)) fold.add(event, TRANSACTION)
          const land = (folded: Parameters<typeof shapedEffect>[0]): Key[] => {
            const { effect, needs, misfits } = shapedEffect(folded, shaper, NOW)
            expect(misfits).toEqual([])
            for (const key of effect.removed) there.delete(keyText(key))
            for (const { key, row } of effect.puts) there.set(keyText(key), unpackRow(row))
            return needs.map(({ identity }) => identity)
          }
          // Read at the source, where all of it has happened already.
          for (const identity of land(fold)) {
            const row = rows.get(identity[0]!)
            land({
              truncate: false,
              fresh: false,
              keys: row ? [state({ identity, after: packRow(row) })] : [],
            })
          }
        }
        const expected = [...rows.values()].map(([id, bed, note]) => [bed, note, id])
        expect([...there.values()].sort()).toEqual(expected.sort())
      }),
      { numRuns: 1000 },
    )
  })

  test('what the source does not tell of a row before is told, and not passed over', () => {
    const told = (...events: Partial<ChangeEvent>[]) => {
      const fold = new IdentityFold([0], shaper.keyBeyond)
      events.forEach((event, number) => fold.add({ lane: 0, number, ...event } as ChangeEvent, TRANSACTION))
      return shapedEffect(fold, shaper, NOW).misfits
    }
    const row = packRow(['1', 'a', 'n'])
    const other = packRow(['1', 'b', 'n'])
    expect(told({ op: 'update', before: row, after: row })).toHaveLength(1)
    expect(told({ op: 'delete', before: packRow(['1', undefined, undefined]) })).toHaveLength(1)
    expect(told({ op: 'update', before: packRow(['1', undefined, undefined]), after: row })).toHaveLength(1)
    expect(told({ op: 'update', before: row, after: other })).toEqual([])
    expect(told({ op: 'insert', after: row }, { op: 'update', before: other, after: other })).toEqual([])
    expect(
      told({ op: 'insert', after: row }, { op: 'delete', before: packRow(['1', undefined, undefined]) }),
    ).toEqual([])
  })
})

const value = fc.oneof(
  fc.constantFrom<Value>(null, undefined, '', '\\.', '\\N', '"', ',', '\n', '\r', 'a"b', 'x'.repeat(3_000)),
  fc.string({ unit: 'grapheme' }),
)
const rows = fc.array(value, { minLength: 1, maxLength: 8 })

describe('packed rows', () => {
  test('become just the CSV that their values do', () => {
    fc.assert(
      fc.property(fc.array(rows), fc.constantFrom('', ',more'), (all, more) => {
        const writer = new CsvWriter(16)
        for (const row of all) {
          writer.row(packRow(row))
          writer.endLine(more)
        }
        const expected = all.map(row => `${csvLine(row).slice(0, -1)}${more}\n`).join('')
        expect(Buffer.from(writer.take()).toString()).toBe(expected)
      }),
      { numRuns: 500 },
    )
  })

  test('are picked from, filled and asked as their values would be', () => {
    fc.assert(
      fc.property(rows, rows, fc.array(fc.nat(7)), (row, other, places) => {
        const earlier = row.map((_, i) => other[i] ?? null)
        const picked = places.filter(place => place < row.length)
        expect(unpackRow(pickedRow(packRow(row), picked))).toEqual(picked.map(place => row[place]))
        expect(unpackRow(filledRow(packRow(row), packRow(earlier)))).toEqual(
          row.map((one, i) => (one === undefined ? earlier[i] : one)),
        )
        expect(unsentIn(packRow(row))).toEqual(row.flatMap((one, i) => (one === undefined ? [i] : [])))
        const told = row.flatMap((one, i) => (typeof one === 'string' ? [i] : []))
        expect(packedKey(packRow(row), told)).toEqual(told.map(i => row[i]))
      }),
    )
  })
})

test('a row that is kept when it is deleted, and comes back under an equal key that is printed otherwise, stands once', () => {
  const key: Column = { name: 'id', type: { kind: 'decimal' }, nativeType: 'numeric', nullable: false }
  const lane: Lane = {
    source: { namespace: 's', name: 't' },
    target: { namespace: 's', name: 't' },
    reads: [key],
    identity: ['id'],
    writes: [
      { ...key, value: { from: 'column', column: 'id' } },
      {
        name: 'gone at',
        type: { kind: 'timestamp', zoned: true },
        nativeType: 'timestamptz',
        nullable: true,
        value: { from: 'metadata', what: 'deleted at' },
      },
    ],
    key: ['id'],
    scope: null,
    deletes: 'mark',
    rows: 0,
    rowsExact: true,
    bytes: 0,
  }
  const shaper = laneShaper(lane, { origin: '', hash: text => text })
  const transaction = { id: '1', start: '0/1', at: '2026-03-01T12:00:00.000000Z', events: [] }
  const after = (...events: ChangeEvent[]) => {
    const fold = new IdentityFold([0])
    for (const event of events) fold.add(event, transaction)
    const { effect } = shapedEffect(fold, shaper, '2026-03-01T12:00:01.000Z')
    return { puts: effect.puts.map(put => put.key), removed: effect.removed }
  }
  const gone = (id: string): ChangeEvent => ({ lane: 0, number: 0, op: 'delete', before: packRow([id]) })
  const comes = (id: string): ChangeEvent => ({ lane: 0, number: 1, op: 'insert', after: packRow([id]) })
  expect(after(gone('1.00'), comes('1.0'))).toEqual({ puts: [['1.0']], removed: [['1.00']] })
  expect(after(gone('1.00'), comes('2.0'))).toEqual({ puts: [['2.0'], ['1.00']], removed: [] })
  expect(after(gone('1.00'), comes('1.0'), gone('1.0'))).toEqual({ puts: [['1.0']], removed: [] })
})
