/** `npm run soak -- --shape two-way [--between tables|sheets] --faults N --seed S`: in one world after another. */
import { parseArgs } from 'node:util'
import { Random } from '../random.ts'
import { twoWayFaults } from './faults.ts'
import { sheetFaults } from './sheets.ts'
import { tableFaults } from './tables.ts'

const EACH = 25
const SOAKS = { apps: twoWayFaults, tables: tableFaults, sheets: sheetFaults }

const { values } = parseArgs({
  options: {
    shape: { type: 'string' },
    faults: { type: 'string', default: '100' },
    between: { type: 'string', default: 'apps' },
    seed: { type: 'string', default: String(Date.now() % 100_000) },
  },
})
const [faults, seed] = [Number(values.faults), Number(values.seed)]
const total = { faults: 0, doubled: 0, lost: 0, different: 0, echoes: 0 }
while (total.faults < faults) {
  const random = new Random(seed + total.faults)
  const soak = SOAKS[values.between as keyof typeof SOAKS]
  const one = await soak(Math.min(EACH, faults - total.faults), random)
  for (const name of ['faults', 'doubled', 'lost', 'different', 'echoes'] as const) total[name] += one[name]
  process.stdout.write(
    `seed ${seed}: ${total.faults} faults, ${one.edits} edits, ${one.pairs} pairs at the end\n`,
  )
  for (const what of one.wrong) process.stdout.write(`  ${what}\n`)
}
const { doubled, lost, different, echoes } = total
process.stdout.write(
  `faults ${total.faults}, doubled ${doubled}, lost ${lost}, different ${different}, echoes ${echoes}\n`,
)
process.exit(doubled + lost + different + echoes === 0 ? 0 : 1)
