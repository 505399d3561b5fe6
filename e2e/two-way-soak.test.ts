/** The short forms of `npm run soak -- --shape two-way`: what keeps two places in step is killed anywhere, apps fail as apps do, databases cut it off. */
import { expect, test } from '@jest/globals'
import { Random } from '../soak/random.ts'
import { twoWayFaults } from '../soak/two-way/faults.ts'
import { sheetFaults } from '../soak/two-way/sheets.ts'
import { tableFaults } from '../soak/two-way/tables.ts'

test('whatever dies when, each record has its other half once, both say the same, and no edit is gone', async () => {
  const { edits, pairs, ...wrong } = await twoWayFaults(6, new Random(11))
  expect(wrong).toEqual({ faults: 6, doubled: 0, lost: 0, different: 0, echoes: 0, wrong: [] })
  // That there was something to lose.
  expect(edits).toBeGreaterThan(50)
  expect(pairs).toBeGreaterThan(10)
}, 180_000)

test('the same of two tables', async () => {
  const { edits, pairs, ...wrong } = await tableFaults(4, new Random(7))
  expect(wrong).toEqual({ faults: 4, doubled: 0, lost: 0, different: 0, echoes: 0, wrong: [] })
  expect(edits).toBeGreaterThan(50)
  expect(pairs).toBeGreaterThan(5)
}, 180_000)

test('the same of an app and a sheet', async () => {
  const { edits, pairs, ...wrong } = await sheetFaults(4, new Random(3))
  expect(wrong).toEqual({ faults: 4, doubled: 0, lost: 0, different: 0, echoes: 0, wrong: [] })
  expect(edits).toBeGreaterThan(30)
  expect(pairs).toBeGreaterThan(5)
}, 180_000)
