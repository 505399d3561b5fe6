/** Places by time and by position, against the plain definition over the list of what was written. */
import { afterEach, beforeEach, expect, test } from '@jest/globals'
import { encodeRow } from '@tide/core/records/tuple'
import fc from 'fast-check'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { Journal } from '../src/journal.ts'
import { placeAtPosition, placeAtTime, type Place } from '../src/place.ts'

const START = { kind: 'postgres log', incarnation: 'one/1', at: '0/100' }
const lsn = (n: number) => `0/${(0x100 + n * 0x10).toString(16).toUpperCase()}`
const TABLE = {
  id: 1,
  dataset: { namespace: 's', name: 't' },
  columns: [{ name: 'v', nativeType: 'text' }],
}

let folder: string
beforeEach(() => void (folder = join(mkdtempSync(join(tmpdir(), 'constant-tide-test-')), 'journal')))
afterEach(() => rmSync(folder, { recursive: true, force: true }))

/** Commit times in a log are nearly in order; some transactions are large enough to fill frames, and segments. */
const lives = fc.array(
  fc.record({
    later: fc.integer({ min: -3, max: 20 }),
    bytes: fc.oneof(
      { weight: 8, arbitrary: fc.integer({ min: 0, max: 3_000 }) },
      fc.constantFrom(40_000, 1_200_000),
    ),
    flushed: fc.boolean(),
    quiet: fc.boolean(),
  }),
  { minLength: 1, maxLength: 25 },
)

test('a place by time or position is where the first transaction at or behind it begins, over frames, segments and restarts', async () => {
  await fc.assert(
    fc.asyncProperty(lives, fc.boolean(), async (life, restart) => {
      let journal = await Journal.begin(folder, START, { segmentBytes: 100_000 })
      journal.appender.relation(TABLE)
      const times: number[] = []
      let time = 1_000
      for (const [n, { later, bytes, flushed, quiet }] of life.entries()) {
        times.push((time += later))
        const { appender } = journal
        appender.begin(lsn(n * 2), time, `x${n}`)
        for (let left = bytes; left >= 0; left -= 400_000)
          appender.insert(1, encodeRow(['x'.repeat(Math.min(left, 400_000))]))
        appender.commit(lsn(n * 2 + 1))
        if (quiet) appender.mark(lsn(n * 2 + 2))
        if (flushed) await appender.flush()
      }
      await journal.appender.flush()
      if (restart) {
        await journal.close()
        journal = (await Journal.open(folder, 100_000))!
      }
      /** `first`: the first transaction behind the place; -1 when it is the end. Between two transactions any place will do. */
      const expectPlace = ({ position, next }: Place, first: number) => {
        expect(next).toEqual(first < 0 ? null : { start: lsn(first * 2), at: times[first] })
        const before = first < 0 ? life.length : first
        if (before > 0) expect(journal.isAfter(lsn(before * 2 - 1), position)).toBe(false)
        if (next) expect(journal.isAfter(position, next.start)).toBe(false)
      }
      for (let asked = 990; asked <= time + 5; asked += 7)
        expectPlace(
          await placeAtTime(journal, asked),
          times.findIndex(at => at >= asked),
        )
      for (let n = 0; n <= life.length * 2; n++)
        expectPlace(
          await placeAtPosition(journal, lsn(n)),
          life.findIndex((_, i) => i * 2 >= n),
        )
      await journal.close()
    }),
    { numRuns: 40 },
  )
}, 60_000)
