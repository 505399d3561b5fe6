// Type-checks every package by its own rules, and what stands beside them.
import { spawnSync } from 'node:child_process'
import { readdirSync } from 'node:fs'

const projects = [...readdirSync('packages').map(name => `packages/${name}`), '.']
const failed = projects.filter(project => {
  const { status } = spawnSync(process.execPath, ['node_modules/typescript/bin/tsc', '-p', project], {
    stdio: 'inherit',
  })
  return status !== 0
})
if (failed.length > 0) process.stderr.write(`Types do not fit in ${failed.join(', ')}.\n`)
process.exit(failed.length > 0 ? 1 : 0)
