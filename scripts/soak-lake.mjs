// `npm run soak-lake -- --kills N --seed S`: kills writers of a lake at random; the last line is the result.
import { spawnSync } from 'node:child_process'
import { install } from './prepare.mjs'

install()
const { status } = spawnSync(
  process.execPath,
  ['--import', 'tsx', '--no-warnings', 'soak/lake/main.ts', ...process.argv.slice(2)],
  { stdio: 'inherit' },
)
process.exit(status ?? 1)
