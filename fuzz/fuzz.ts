/** `npm run fuzz -- queries --minutes M --seed S`. */
import { parseArgs } from 'node:util'
import { fuzzQueries } from './queries.ts'

const { values, positionals } = parseArgs({
  allowPositionals: true,
  options: { minutes: { type: 'string', default: '10' }, seed: { type: 'string', default: '1' } },
})
const say = (line: string) => void process.stdout.write(`${line}\n`)
if (positionals.join() !== 'queries') {
  say('There is one thing to fuzz: npm run fuzz -- queries --minutes M --seed S')
  process.exit(1)
}
const told = await fuzzQueries(Number(values.minutes) * 60_000, Number(values.seed), say)
const { statements, answered, changed, crashed, stuck } = told
say(`${answered} were answered, the others refused`)
say(`statements ${statements}, changed ${changed}, crashed ${crashed}, stuck ${stuck}`)
process.exit(changed + crashed + stuck === 0 ? 0 : 1)
