/** `npm run soak-lake -- --kills N --seed S [--store folder|bucket] [--format 'json lines'|parquet|merged]`. The last line is `kills N, gaps 0, doubled 0, half 0`. */
import { parseArgs } from 'node:util'
import { Random } from '../random.ts'
import { lakeKills } from './kills.ts'

const { values } = parseArgs({
  options: {
    kills: { type: 'string', default: '200' },
    seed: { type: 'string', default: String(Date.now() % 1_000_000_000) },
    store: { type: 'string', default: 'folder' },
    format: { type: 'string', default: 'json lines' },
  },
})
const { kills, takeovers, faults, changes, gaps, doubled, half, left } = await lakeKills(
  values.store === 'bucket' ? 'bucket' : 'folder',
  values.format === 'parquet' || values.format === 'merged' ? values.format : 'json lines',
  Number(values.kills),
  new Random(Number(values.seed)),
)
process.stdout.write(
  `seed ${values.seed}, takeovers ${takeovers}, faults ${faults}, changes ${changes}, left ${left}\n`,
)
process.stdout.write(`kills ${kills}, gaps ${gaps}, doubled ${doubled}, half ${half}\n`)
process.exit(gaps + doubled + half + left > 0 ? 1 : 0)
