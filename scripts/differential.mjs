// `npm run differential -- --cases N --seed S`: random lives of random tables on real servers; the last line is the result.
import { spawnSync } from 'node:child_process'
import { install } from './prepare.mjs'

install()
const { status } = spawnSync(
  process.execPath,
  ['--import', 'tsx', '--no-warnings', 'differential/differential.ts', ...process.argv.slice(2)],
  { stdio: 'inherit' },
)
process.exit(status ?? 1)
