// `npm run bench -- NAME`: one benchmark; its last line is `NAME: ratio R (ours …, limit …)`.
import { spawnSync } from 'node:child_process'
import { readdirSync } from 'node:fs'
import { build, install } from './prepare.mjs'

const names = readdirSync('bench').flatMap(file => /^(.+)\.bench\.ts$/.exec(file)?.[1] ?? [])
const name = process.argv[2]
if (!names.includes(name)) {
  process.stderr.write(`Name a benchmark: ${names.join(', ')}.\n`)
  process.exit(1)
}
install()
build()
const { status } = spawnSync(
  process.execPath,
  ['--import', 'tsx', '--no-warnings', `bench/${name}.bench.ts`],
  { stdio: 'inherit' },
)
process.exit(status ?? 1)
