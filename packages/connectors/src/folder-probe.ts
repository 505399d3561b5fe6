/**
 * Whether a folder can be made and written. Some places answer never (below /proc, making folders goes round for ever; a
 * disk of the network may be gone), so a process of its own tries, and is given up after a while.
 */
import { Failure } from '@tide/core/failure'
import { spawn } from 'node:child_process'

const ANSWERS_WITHIN_MS = 5_000

const TRY = `
const { closeSync, fsyncSync, mkdirSync, openSync, rmSync, writeSync } = require('node:fs')
const [folder] = process.argv.slice(1)
mkdirSync(folder, { recursive: true })
const file = require('node:path').join(folder, '.write-probe-' + process.pid)
const open = openSync(file, 'wx')
writeSync(open, 'x')
fsyncSync(open)
closeSync(open)
rmSync(file)`

/** Folders that were found well once in this process. */
const known = new Set<string>()

/** Throws a Failure when nothing can be written there. `remedy`: what to do then. */
export async function probeFolder(folder: string, remedy: string): Promise<void> {
  if (known.has(folder)) return
  const said = await tried(folder)
  if (said === undefined) {
    known.add(folder)
    return
  }
  throw new Failure('structural', `Nothing can be written in the folder ${folder}: ${said}.`, remedy)
}

/** Undefined when it went well. */
function tried(folder: string): Promise<string | undefined> {
  return new Promise(resolve => {
    const child = spawn(process.execPath, ['-e', TRY, folder], {
      stdio: ['ignore', 'ignore', 'pipe'],
      env: { PATH: process.env.PATH ?? '' },
    })
    let said = ''
    child.stderr.on('data', part => (said += part))
    const timer = setTimeout(() => {
      child.kill('SIGKILL')
      child.unref()
      resolve('it does not answer')
    }, ANSWERS_WITHIN_MS)
    const end = (answer: string | undefined) => {
      clearTimeout(timer)
      resolve(answer)
    }
    child.once('error', error => end(error.message))
    child.once('exit', code =>
      end(code === 0 ? undefined : (/Error: (.+?)(?:, |$)/m.exec(said)?.[1] ?? 'it failed')),
    )
  })
}
