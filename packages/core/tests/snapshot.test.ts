import { describe, expect, test } from '@jest/globals'
import {
  comparePlaces,
  compareSnapshots,
  parsePlace,
  parseSnapshot,
  printPlace,
  sees,
} from '@tide/core/position/snapshot'
import fc from 'fast-check'

/** A server's history: transactions begin in number order and end in any; snapshots are taken between. */
const snapshots = fc.array(fc.boolean(), { minLength: 2, maxLength: 60 }).chain(turns =>
  fc.infiniteStream(fc.nat()).map(stream => {
    const open: number[] = []
    let next = 10
    return turns.map(begins => {
      if (begins || open.length === 0) open.push(next++)
      else open.splice(stream.next().value % open.length, 1)
      const xmin = open[0] ?? next
      return `${Math.min(xmin, next)}:${next}:${open.join(',')}`
    })
  }),
)

describe('snapshots as positions', () => {
  test('later snapshots of one server are never before earlier ones', () => {
    fc.assert(
      fc.property(snapshots, taken => {
        for (let i = 1; i < taken.length; i++) {
          expect(['same', 'after']).toContain(compareSnapshots(taken[i]!, taken[i - 1]!))
          expect(['same', 'before']).toContain(compareSnapshots(taken[i - 1]!, taken[i]!))
        }
      }),
    )
  })

  test('what is seen: all before xmin, nothing from xmax, none in progress', () => {
    const snapshot = parseSnapshot('10:20:12,15')
    expect([9n, 10n, 12n, 13n, 15n, 19n, 20n].map(xid => sees(snapshot, xid))).toEqual([
      true,
      true,
      false,
      true,
      false,
      true,
      false,
    ])
  })

  test('two snapshots that each see what the other does not cannot be compared', () => {
    expect(compareSnapshots('10:12:10', '10:12:11')).toBe('unknown')
  })

  test('places on the way of one reader are in one order, whatever it lists between its snapshots', () => {
    fc.assert(
      fc.property(
        snapshots,
        fc.array(fc.array(fc.integer({ min: 1, max: 9 }), { maxLength: 4 })),
        (taken, listed) => {
          const way: string[] = []
          for (const [i, seen] of taken.entries()) {
            if (i === 0 || compareSnapshots(seen, taken[i - 1]!) === 'same') continue
            let last = 0n
            way.push(printPlace({ seen: taken[i - 1]! }))
            for (const step of listed[i] ?? []) {
              last += BigInt(step)
              way.push(printPlace({ seen: taken[i - 1]!, toward: seen, last }))
            }
          }
          const distinct = [...new Set(way)]
          distinct.forEach((one, i) =>
            distinct.forEach((other, j) =>
              expect(comparePlaces(one, other)).toBe(i < j ? 'before' : i > j ? 'after' : 'same'),
            ),
          )
        },
      ),
      { numRuns: 50 },
    )
  })

  test('a place prints and parses', () => {
    for (const place of [
      { seen: '1:1:' },
      { seen: '1:4:2', toward: '5:5:', last: 77n },
      { seen: '1:1:', toward: '5:9:6,7', last: 0n },
    ]) {
      expect(parsePlace(printPlace(place))).toEqual(place)
    }
    // Where an earlier version stood within a transaction.
    expect(parsePlace('1:1: > 5:9:6,7 @3/12')).toEqual({ seen: '1:1:', toward: '5:9:6,7', last: 3n })
    expect(() => parsePlace('0/5A3C8F20')).toThrow('not a place')
    expect(() => parseSnapshot('1:2')).toThrow('not a PostgreSQL snapshot')
  })
})
