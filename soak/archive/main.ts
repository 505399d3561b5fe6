/** `npm run soak-archive -- --kills N --seed S`. The last line is `kills N, lost 0, doubled 0, deleted while changed 0`. */
import { parseArgs } from 'node:util'
import { Random } from '../random.ts'
import { archiveKills } from './kills.ts'

const { values } = parseArgs({
  options: {
    kills: { type: 'string', default: '200' },
    seed: { type: 'string', default: String(Date.now() % 1_000_000_000) },
  },
})
const { kills, archived, edits, lost, doubled, deletedWhileChanged } = await archiveKills(
  Number(values.kills),
  new Random(Number(values.seed)),
)
process.stdout.write(`seed ${values.seed}, edits ${edits}, archived ${archived}\n`)
process.stdout.write(
  `kills ${kills}, lost ${lost}, doubled ${doubled}, deleted while changed ${deletedWhileChanged}\n`,
)
process.exit(lost + doubled + deletedWhileChanged > 0 ? 1 : 0)
