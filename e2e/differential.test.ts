/** The short form of `npm run differential`: a fixed set of cases, and a few new ones each time. */
import { expect, test } from '@jest/globals'
import { differential, TARGETS } from '../differential/run.ts'
import { SOURCES } from '../differential/systems.ts'

/** Among these are cases that found faults when there were some. */
const FIXED = { lives: 17, seed: 1000 }
const fresh = Number(process.env.SEED ?? Date.now() % 1_000_000_000)

test.each([
  ['fixed', FIXED],
  ['new', { lives: 6, seed: fresh }],
])(
  `what sources hold and what targets hold is the same by their own SQL: %s cases (new ones from seed ${fresh})`,
  async (_, { lives, seed }) => {
    const said: string[] = []
    const result = await differential({
      lives,
      seed,
      sources: SOURCES,
      targets: TARGETS,
      atOnce: 3,
      shrinkMs: 0,
      say: line => said.push(line),
    })
    expect(said.filter(line => line.startsWith('seed '))).toEqual([])
    expect(result.different).toBe(0)
    // That it has done something: a plan refuses but a part of the cases.
    expect(result.cases - result.refused).toBeGreaterThan(lives * 2)
    expect(result.statements).toBeGreaterThan(lives * 5)
  },
  300_000,
)
