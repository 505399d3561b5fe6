import { describe, expect, test } from '@jest/globals'
import { Meter } from '../src/meter.ts'

const at = (second: number) => new Date(Date.UTC(2026, 10, 20, 10, 0, second)).toISOString()

describe('meter', () => {
  let now = 0
  const meter = () => {
    now = 0
    const made = new Meter(() => now)
    made.begin(100)
    return made
  }

  test('knows nothing before the source has answered, and nothing long after', () => {
    const m = meter()
    expect([m.lag, m.backlog]).toEqual([null, null])
    m.sawHead({
      now: at(10),
      completeUpTo: at(10),
      pendingChanges: 7,
      oldestPending: at(4),
      journalEnd: null,
    })
    expect([m.lag, m.backlog]).toEqual([6, 7])
    now = 3_000
    expect(m.lag).toBe(9)
    now = 11_000
    expect([m.lag, m.backlog]).toEqual([null, null])
  })

  test('what landed late counts in its reading and the next, then no more', () => {
    const m = meter()
    m.sawHead({
      now: at(10),
      completeUpTo: at(10),
      pendingChanges: 5,
      oldestPending: at(8),
      journalEnd: null,
    })
    now = 500
    m.sawLanding(5, at(8))
    m.sawHead({ now: at(10), completeUpTo: at(10), pendingChanges: 0, oldestPending: null, journalEnd: null })
    expect(m.lag).toBe(2.5)
    expect(m.sample(0)).toEqual({ at: 500, committed: 105, landed: 105, copied: 0, lag: 2.5 })
    expect(m.lag).toBe(2.5)
    expect(m.sample(0).lag).toBe(0)
    expect(m.lag).toBe(0)
    expect(m.backlog).toBe(0)
  })

  test('changes that were pending and turn out to be in the copy are no backlog for ever', () => {
    const m = meter()
    m.sawHead({ now: at(0), completeUpTo: null, pendingChanges: 50, oldestPending: at(0), journalEnd: null })
    m.sawLanding(10, at(0))
    m.sawHead({ now: at(1), completeUpTo: at(1), pendingChanges: 0, oldestPending: null, journalEnd: null })
    expect(m.backlog).toBe(0)
    expect(m.sample(0)).toMatchObject({ committed: 150, landed: 150 })
    m.sawHead({ now: at(2), completeUpTo: at(2), pendingChanges: 3, oldestPending: at(2), journalEnd: null })
    expect(m.backlog).toBe(3)
    expect(m.landed).toBe(110)
  })

  test('nothing pending that is known of, while the source may have more, is no backlog of none', () => {
    const m = meter()
    m.sawHead({ now: at(9), completeUpTo: null, pendingChanges: 0, oldestPending: at(2), journalEnd: null })
    expect([m.lag, m.backlog]).toEqual([7, null])
  })

  test('the committed line never falls behind the landed one', () => {
    const m = meter()
    m.sawHead({ now: at(0), completeUpTo: at(0), pendingChanges: 10, oldestPending: at(0), journalEnd: null })
    m.sawLanding(4, at(0))
    expect(m.sample(0)).toMatchObject({ committed: 110, landed: 104 })
    m.sawHead({ now: at(1), completeUpTo: at(1), pendingChanges: 6, oldestPending: at(0), journalEnd: null })
    expect(m.backlog).toBe(6)
  })
})
