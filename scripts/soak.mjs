// `npm run soak -- [--shape send] --faults N --seed S`: builds, then breaks everything at random; the last line is the result.
import { spawnSync } from 'node:child_process'
import { build, install } from './prepare.mjs'

install()
build()
const sends = process.argv.join(' ').includes('--shape send')
const { status } = spawnSync(
  process.execPath,
  [
    '--import',
    'tsx',
    '--no-warnings',
    sends ? 'soak/send/main.ts' : 'soak/soak.ts',
    ...process.argv.slice(2),
  ],
  { stdio: 'inherit' },
)
process.exit(status ?? 1)
