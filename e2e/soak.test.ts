/** The short form of `npm run soak`: a few of its faults on each kind of source. */
import { afterAll, expect, test } from '@jest/globals'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { soak } from '../soak/run.ts'
import {
  duckdbTarget,
  mariadbSource,
  postgresSource,
  postgresTarget,
  type SoakSource,
} from '../soak/systems.ts'

const SEED = Number(process.env.SEED ?? 119_595)
const FAULTS = 8

const folder = mkdtempSync(join(tmpdir(), 'constant-tide-soak-test-'))
afterAll(() => rmSync(folder, { recursive: true, force: true }))

test.each<[string, (() => Promise<SoakSource>)[]]>([
  [
    'three PostgreSQL origins, one by triggers',
    [postgresSource, () => postgresSource('triggers'), postgresSource],
  ],
  ['MariaDB', [mariadbSource]],
])(
  `what %s commits is neither lost nor doubled by ${FAULTS} faults (seed ${SEED})`,
  async (name, open) => {
    const sources = await Promise.all(open.map(one => one()))
    const targets = [duckdbTarget(join(folder, `${name}.duckdb`)), await postgresTarget()]
    try {
      const { lost, doubled, different, historyDifferent, transactions } = await soak(sources, targets, {
        faults: FAULTS,
        seed: SEED,
      })
      expect({ lost, doubled, different, historyDifferent }).toEqual({
        lost: 0,
        doubled: 0,
        different: 0,
        historyDifferent: 0,
      })
      expect(transactions).toBeGreaterThan(100)
    } finally {
      await Promise.all([...sources, ...targets].map(system => system.close()))
    }
  },
  300_000,
)
