// Type-checks every package by its own rules, and what stands beside them; as many at once as there are cores, up to four.
import { spawn } from 'node:child_process'
import { readdirSync } from 'node:fs'
import { availableParallelism } from 'node:os'

const projects = ['.', ...readdirSync('packages').map(name => `packages/${name}`)]
const check = project =>
  new Promise(resolve =>
    spawn(process.execPath, ['node_modules/typescript/bin/tsc', '-p', project], { stdio: 'inherit' }).once(
      'close',
      resolve,
    ),
  )
const left = [...projects]
const failed = []
const work = async () => {
  for (let project = left.shift(); project; project = left.shift())
    if ((await check(project)) !== 0) failed.push(project)
}
await Promise.all(Array.from({ length: Math.min(4, availableParallelism()) }, work))
if (failed.length > 0) process.stderr.write(`Types do not fit in ${failed.join(', ')}.\n`)
process.exit(failed.length > 0 ? 1 : 0)
