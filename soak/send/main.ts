/** `npm run soak -- --shape send --faults N --seed S`: in one world after another, every second of which has an app that knows no repeated calls. */
import { parseArgs } from 'node:util'
import { Random } from '../random.ts'
import { sendFaults } from './faults.ts'

const EACH = 25

const { values } = parseArgs({
  options: {
    shape: { type: 'string' },
    faults: { type: 'string', default: '100' },
    seed: { type: 'string', default: String(Date.now() % 100_000) },
  },
})
const [faults, seed] = [Number(values.faults), Number(values.seed)]
let round = 0
const total = { faults: 0, doubled: 0, lost: 0, different: 0 }
while (total.faults < faults) {
  const random = new Random(seed + total.faults)
  const { edits, writes, ...one } = await sendFaults(
    Math.min(EACH, faults - total.faults),
    random,
    round++ % 2 === 0,
  )
  for (const name of ['faults', 'doubled', 'lost', 'different'] as const) total[name] += one[name]
  process.stdout.write(
    `seed ${seed}: ${total.faults} faults, ${edits} edits, ${writes} of its last calls kept by the app\n`,
  )
}
process.stdout.write(
  `faults ${total.faults}, doubled ${total.doubled}, lost ${total.lost}, different ${total.different}\n`,
)
process.exit(total.doubled + total.lost + total.different === 0 ? 0 : 1)
