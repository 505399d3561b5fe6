import { describe, expect, test } from '@jest/globals'
import { backoff } from '@tide/core/pace/backoff'
import { depth, lagSeconds, tint } from '@tide/core/pace/lag'
import { Rate, secondsLeft } from '@tide/core/pace/rate'
import { roomLeft } from '@tide/core/pace/room'
import { commonSlope, depthStrip, readGaps, type TideSample } from '@tide/core/pace/tide'

const at = (second: number, committed: number, landed: number, lag: number | null = 0): TideSample => ({
  at: second * 1000,
  committed,
  landed,
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

  test('the common slope is the usual rate, whatever a burst did', () => {
    expect(commonSlope(samples)).toBe(10)
    expect(commonSlope([at(1, 5, 5)])).toBe(0)
    expect(commonSlope([])).toBe(0)
    const steady = Array.from({ length: 61 }, (_, second) =>
      at(second, second * 3 + (second > 40 ? 5000 : 0), 0),
    )
    expect(commonSlope(steady)).toBe(3)
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
