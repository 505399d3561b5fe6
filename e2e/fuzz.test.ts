/** The short form of `npm run fuzz -- queries`. */
import { expect, test } from '@jest/globals'
import { fuzzQueries } from '../fuzz/queries.ts'

const seed = Number(process.env.SEED ?? Date.now() % 1_000_000)

test(`random statements change nothing, end nothing and are all answered (seed ${seed})`, async () => {
  const said: string[] = []
  const { statements, answered, ...faults } = await fuzzQueries(30_000, seed, line => void said.push(line))
  expect(said).toEqual([])
  expect(faults).toEqual({ changed: 0, crashed: 0, stuck: 0 })
  // That it has done something: most are refused, since random arguments seldom fit.
  expect(statements).toBeGreaterThan(250)
  expect(answered).toBeGreaterThan(statements / 50)
}, 180_000)
