/** The short form of `npm run soak-archive`: archivers are killed anywhere while people edit the very rows. */
import { expect, test } from '@jest/globals'
import { archiveKills } from '../soak/archive/kills.ts'
import { Random } from '../soak/random.ts'

test('every row is at the source or in the archive, as it was when it was deleted', async () => {
  const { archived, edits, ...wrong } = await archiveKills(4, new Random(5))
  expect(wrong).toEqual({ kills: 4, lost: 0, doubled: 0, deletedWhileChanged: 0 })
  // That there was something to lose.
  expect(archived).toBeGreaterThan(1000)
  expect(edits).toBeGreaterThan(100)
}, 120_000)
