import { describe, expect, test } from '@jest/globals'
import { lastTime, nextTimes } from '@tide/core/schedule/times'
import fc from 'fast-check'

const berlin = (cron: string) => ({ cron, zone: 'Europe/Berlin' })
const from = (iso: string) => Date.parse(iso)

describe('times of a schedule', () => {
  test('are those of its own time zone', () => {
    expect(nextTimes(berlin('30 2 * * *'), from('2026-06-01T12:00:00Z'), 2).map(({ at }) => at)).toEqual([
      '2026-06-02T00:30:00.000Z',
      '2026-06-03T00:30:00.000Z',
    ])
  })

  test('a local time that does not exist is said, and so is one that comes twice', () => {
    const notes = (iso: string, cron = '30 2 * * *') =>
      nextTimes(berlin(cron), from(iso), 3).map(({ at, note }) => [
        at,
        note && /put (forward|back)/.exec(note)![1],
      ])
    expect(notes('2026-03-27T12:00:00Z')).toEqual([
      ['2026-03-28T01:30:00.000Z', null],
      ['2026-03-29T01:00:00.000Z', 'forward'],
      ['2026-03-30T00:30:00.000Z', null],
    ])
    expect(notes('2026-10-23T12:00:00Z')).toEqual([
      ['2026-10-24T00:30:00.000Z', null],
      ['2026-10-25T00:30:00.000Z', 'back'],
      ['2026-10-26T01:30:00.000Z', null],
    ])
    // What comes every hour comes in both.
    expect(notes('2026-10-25T00:00:00Z', '30 * * * *').map(([, note]) => note)).toEqual([null, null, null])
  })

  test.each([
    ['0 0 30 2 *', 'never comes'],
    ['61 * * * *', 'Invalid value for minute'],
    ['* * * *', 'says no times'],
    ['* * * * * *', 'says no times'],
    ['', 'says no times'],
  ])('%s is refused', (cron, said) => {
    expect(() => nextTimes(berlin(cron), from('2026-06-01T12:00:00Z'), 1)).toThrow(said)
  })

  test('a time zone that is none is refused', () => {
    expect(() => nextTimes({ cron: '* * * * *', zone: 'Alder/Bank' }, 0, 1)).toThrow('no time zone')
  })

  test('whenever it is looked at, the last time is the one behind which the next has not come', () => {
    const minutes = fc.integer({
      min: from('2026-01-01T00:00:00Z') / 1000,
      max: from('2026-12-31T00:00:00Z') / 1000,
    })
    const crons = fc.constantFrom('30 2 * * *', '*/7 * * * *', '0 9 * * 1-5', '15 1,2,3 * * *')
    fc.assert(
      fc.property(crons, minutes, (cron, second) => {
        const now = second * 1000
        const last = from(lastTime(berlin(cron), 0, now)!)
        const [next] = nextTimes(berlin(cron), last, 1)
        expect(last).toBeLessThanOrEqual(now)
        expect(from(next!.at)).toBeGreaterThan(now)
        expect(lastTime(berlin(cron), last, now)).toBeUndefined()
        expect(lastTime(berlin(cron), last - 1, last)).toBe(new Date(last).toISOString())
      }),
    )
  })
})
