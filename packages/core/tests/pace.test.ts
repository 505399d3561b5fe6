import { describe, expect, test } from '@jest/globals'
import fc from 'fast-check'
import { backoff } from '@tide/core/pace/backoff'
import { depth, lagSeconds, tint } from '@tide/core/pace/lag'
import { Rate, secondsLeft } from '@tide/core/pace/rate'
import { roomLeft } from '@tide/core/pace/room'
import { flowBins, going } from '@tide/core/pace/flow'
import { depthStrip, readGaps, type TideSample } from '@tide/core/pace/tide'

const at = (second: number, committed: number, landed: number, lag: number | null = 0): TideSample => ({
  at: second * 1000,
  committed,
  landed,
  copied: 0,
  lag,
})

describe('lag', () => {
  test('is unknown without a head, zero when it is reached, else the age of the oldest change', () => {
    expect(lagSeconds(null)).toBeNull()
    expect(
      lagSeconds({ now: '2026-11-20T10:00:03Z', oldestPending: null, completeUpTo: '2026-11-20T10:00:00Z' }),
    ).toBe(0)
    expect(
      lagSeconds({ now: '2026-11-20T10:00:07Z', oldestPending: null, completeUpTo: '2026-11-20T10:00:00Z' }),
    ).toBe(7)
    expect(
      lagSeconds({
        now: '2026-11-20T10:00:07.500Z',
        oldestPending: '2026-11-20T10:00:05Z',
        completeUpTo: null,
      }),
    ).toBe(2.5)
  })

  test('depth is logarithmic between a second and an hour', () => {
    expect([0.2, 1, 60, 3600, 90_000].map(depth)).toEqual([0, 0, 0.5, 1, 1])
    expect([1, 5, 30, 300, 301].map(tint)).toEqual([0, 1, 2, 3, 4])
  })
})

describe('tide', () => {
  const samples = [at(0, 0, 0), at(10, 100, 100), at(20, 200, 100), at(30, 300, 150), at(40, 300, 300)]

  test('reads both gaps', () => {
    expect(readGaps(samples, 3)).toEqual({ changes: 150, seconds: 15 })
    expect(readGaps(samples, 2)).toEqual({ changes: 100, seconds: 10 })
    expect(readGaps(samples, 4)).toEqual({ changes: 0, seconds: 0 })
    expect(readGaps([at(0, 50, 10), at(1, 60, 20)], 1)).toEqual({ changes: 40, seconds: null })
  })

  /** One reading a second, with so many changes a second committed and landed. */
  const running = (...spans: [seconds: number, committed: number, landed: number][]) => {
    const all = [at(0, 0, 0)]
    for (const [seconds, committed, landed] of spans)
      for (let i = 0; i < seconds; i++) {
        const { at: time, committed: c, landed: l } = all.at(-1)!
        all.push(at(time / 1000 + 1, c + committed, Math.min(c + committed, l + landed), 0))
      }
    return all
  }

  test('bins have the rates of what they enclose, the deepest backlog, and nothing where nothing is known', () => {
    const all = running([60, 100, 100], [60, 300, 100])
    const bins = flowBins(all, 0, 120_000, 12)
    // A bin takes the changes of the second that reaches into it, too.
    expect(bins.map(({ committed }) => committed)).toEqual([
      ...Array(6).fill(100),
      280,
      ...Array(5).fill(300),
    ])
    expect(bins.every(({ landed }) => landed === 100)).toBe(true)
    expect(bins[5]!.behind).toBe(0)
    expect(bins[11]!.behind).toBe(200 * 59)
    const broken = all.filter(({ at }) => at < 30_000 || at > 90_000)
    expect(flowBins(broken, 0, 120_000, 12).map(({ committed }) => committed === null)).toEqual(
      [0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11].map(i => i > 2 && i < 9),
    )
    expect(flowBins([], 0, 1_000, 2)).toMatchObject([{ committed: null }, { committed: null }])
  })

  test('bins lose no change: over any readings, rates times time come to what was committed', () => {
    fc.assert(
      fc.property(
        fc.array(fc.nat(50), { minLength: 30, maxLength: 200 }),
        fc.integer({ min: 1, max: 20 }),
        (steps, count) => {
          const all = [at(0, 0, 0)]
          for (const step of steps) all.push(at(all.length, all.at(-1)!.committed + step, 0))
          const span = steps.length * 1000
          const bins = flowBins(all, 0, span, count)
          const sum = bins.reduce((sum, { committed }) => sum + (committed ?? 0) * (span / count / 1000), 0)
          const total = all.at(-1)!.committed
          // A bin takes the changes of the second that reaches into it.
          expect(Math.abs(sum - total)).toBeLessThanOrEqual(50 * count + 1)
        },
      ),
    )
  })

  test('it is said whether it keeps up, falls behind or catches up, and for how long', () => {
    expect(going([])).toEqual({ going: 'unknown' })
    expect(going(running([2, 100, 100]))).toEqual({ going: 'unknown' })
    expect(going(running([60, 100, 100]))).toEqual({ going: 'keeping up' })
    expect(going(running([60, 100, 99], [30, 100, 100]))).toEqual({ going: 'keeping up' })
    expect(going(running([30, 100, 100], [30, 300, 100]))).toEqual({
      going: 'falling behind',
      behind: 6_000,
      perSecond: 200,
    })
    expect(going(running([60, 300, 100], [30, 100, 300]))).toEqual({
      going: 'catching up',
      behind: 6_000,
      perSecond: 200,
      seconds: 30,
    })
    expect(going(running([60, 300, 100], [30, 100, 100]))).toEqual({
      going: 'staying behind',
      behind: 12_000,
    })
  })

  test('the strip keeps the greatest lag of each minute and leaves out what is unknown', () => {
    const strip = depthStrip(
      [at(0, 0, 0, 9), at(61, 0, 0, 2), at(62, 0, 0, 7), at(125, 0, 0, null)],
      125_000,
      3,
    )
    expect(strip).toEqual([9, 7, null])
  })
})

describe('rate', () => {
  test('counts over its window, over less while it is young, and falls to zero after it', () => {
    const rate = new Rate(5_000, 0)
    expect(rate.perSecond(0)).toBe(0)
    for (let second = 1; second <= 4; second++) rate.add(second * 1000, 100)
    expect(rate.perSecond(4_000)).toBe(100)
    expect(rate.perSecond(8_000)).toBe(20)
    expect(rate.perSecond(60_000)).toBe(0)
    rate.add(60_000, 50)
    expect(rate.perSecond(60_000)).toBe(10)
    expect(secondsLeft(500, 125)).toBe(4)
    expect(secondsLeft(500, 0)).toBeNull()
  })

  test('back-off doubles up to half a minute, and never waits less than half of it', () => {
    expect([1, 2, 3, 20].map(attempt => backoff(attempt, 0))).toEqual([250, 500, 1000, 15_000])
    expect(backoff(20, 1)).toBe(30_000)
  })
})

test('room ends at the limit or with the disk, whichever comes first, and is not known without a rate', () => {
  const room = { bytes: 2e9, hardBytes: 10e9, diskFree: 100e9, bytesPerHour: 1e9 }
  expect(roomLeft(room)).toEqual({ hours: 8, then: 'limit' })
  expect(roomLeft({ ...room, hardBytes: 0 })).toEqual({ hours: 100, then: 'disk' })
  expect(roomLeft({ ...room, diskFree: 1e9 })).toEqual({ hours: 1, then: 'disk' })
  expect(roomLeft({ ...room, bytes: 11e9 })).toEqual({ hours: 0, then: 'limit' })
  expect(roomLeft({ ...room, bytesPerHour: null })).toBeNull()
})
