/** The short form of `npm run soak-lake`: writers of a lake are killed anywhere, and nothing is missing, twice, half there or left over. */
import { expect, test } from '@jest/globals'
import { lakeKills } from '../soak/lake/kills.ts'
import { Random } from '../soak/random.ts'

test.each([
  ['folder', 'json lines'],
  ['bucket', 'json lines'],
  ['folder', 'merged'],
] as const)(
  'in a %s, as %s',
  async (store, format) => {
    const { takeovers, faults, changes, ...wrong } = await lakeKills(store, format, 2, new Random(11))
    expect(wrong).toEqual({ kills: 2, gaps: 0, doubled: 0, half: 0, left: 0 })
    // That it has done something.
    expect(changes).toBeGreaterThan(50)
    expect(takeovers + faults).toBeGreaterThan(0)
  },
  120_000,
)
