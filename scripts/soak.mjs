// `npm run soak -- --faults N --seed S`: builds, then breaks everything at random; the last line is the result.
import { spawnSync } from 'node:child_process'
import { build, install } from './prepare.mjs'

install()
build()
const { status } = spawnSync(
  process.execPath,
  ['--import', 'tsx', '--no-warnings', 'soak/soak.ts', ...process.argv.slice(2)],
  { stdio: 'inherit' },
)
process.exit(status ?? 1)
