/** `npm run soak -- --faults N --seed S [--source postgres|triggers|mariadb|origins]`. The last line is `faults N, lost 0, doubled 0, different 0, history different 0`. */
import { mkdirSync, mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { parseArgs } from 'node:util'
import { soak } from './run.ts'
import {
  duckdbTarget,
  lakeTarget,
  mariadbSource,
  mariadbTarget,
  postgresSource,
  postgresTarget,
} from './systems.ts'

const { values } = parseArgs({
  options: {
    faults: { type: 'string', default: '200' },
    source: { type: 'string', default: 'postgres' },
    seed: { type: 'string', default: String(Date.now() % 1_000_000) },
  },
})
const [faults, seed] = [Number(values.faults), Number(values.seed)]
const say = (line: string) => process.stdout.write(`${line}\n`)
say(`seed ${seed}`)
const folder = mkdtempSync(join(tmpdir(), 'constant-tide-soak-target-'))
mkdirSync(join(folder, 'lake'))
const sources = {
  postgres: [() => postgresSource()],
  triggers: [() => postgresSource('triggers')],
  mariadb: [mariadbSource],
  /** Three of one shape, into the same tables. */
  origins: [() => postgresSource(), () => postgresSource('triggers'), () => postgresSource()],
}
if (!Object.hasOwn(sources, values.source)) throw new Error(`There is no source ${values.source}.`)
const opened = await Promise.all(sources[values.source as keyof typeof sources].map(open => open()))
const targets = [
  duckdbTarget(join(folder, 'warehouse.duckdb')),
  await postgresTarget(),
  await mariadbTarget(),
  // Several origins cannot write one lake table.
  ...(values.source === 'origins' ? [] : [lakeTarget(join(folder, 'lake'))]),
]
const result = await soak(opened, targets, { faults, seed, say })
await Promise.all([...opened, ...targets].map(system => system.close()))
rmSync(folder, { recursive: true, force: true })
say(`${result.transactions} transactions; ${JSON.stringify(result.kinds)}`)
const { lost, doubled, different, historyDifferent } = result
say(
  `faults ${faults}, lost ${lost}, doubled ${doubled}, different ${different}, history different ${historyDifferent}`,
)
process.exit(lost + doubled + different + historyDifferent > 0 ? 1 : 0)
