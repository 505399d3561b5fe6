// `npm run soak-archive -- --kills N --seed S`: kills archivers at random; the last line is the result.
import { spawnSync } from 'node:child_process'
import { install } from './prepare.mjs'

install()
const { status } = spawnSync(
  process.execPath,
  ['--import', 'tsx', '--no-warnings', 'soak/archive/main.ts', ...process.argv.slice(2)],
  { stdio: 'inherit' },
)
process.exit(status ?? 1)
