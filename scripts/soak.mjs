// `npm run soak -- [--shape send|two-way] --faults N --seed S`: builds, then breaks everything at random; the last line is the result.
import { spawnSync } from 'node:child_process'
import { build, install } from './prepare.mjs'

install()
build()
const asked = process.argv.join(' ')
const soak = asked.includes('--shape send')
  ? 'soak/send/main.ts'
  : asked.includes('--shape two-way')
    ? 'soak/two-way/main.ts'
    : 'soak/soak.ts'
const { status } = spawnSync(
  process.execPath,
  ['--import', 'tsx', '--no-warnings', soak, ...process.argv.slice(2)],
  { stdio: 'inherit' },
)
process.exit(status ?? 1)
