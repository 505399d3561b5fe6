// `npm run fuzz -- queries --minutes M --seed S`: random statements against real systems; the last line is the result.
import { spawnSync } from 'node:child_process'
import { build, install } from './prepare.mjs'

install()
build()
const { status } = spawnSync(
  process.execPath,
  ['--import', 'tsx', '--no-warnings', 'fuzz/fuzz.ts', ...process.argv.slice(2)],
  { stdio: 'inherit' },
)
process.exit(status ?? 1)
