// `npm start [-- --empty]`: installs, builds, starts the server and, unless empty, the demo world.
import { fork } from 'node:child_process'
import { fileURLToPath } from 'node:url'
import { build, install } from './prepare.mjs'

const empty = process.argv.includes('--empty')
const unknown = process.argv.slice(2).find(argument => argument !== '--empty')
if (unknown) {
  process.stderr.write(`There is no option ${unknown}. There is --empty: start without the demo world.\n`)
  process.exit(1)
}
install()
build()

const began = Date.now()
const env = { ...process.env, TIDE_DATA: process.env.TIDE_DATA ?? (empty ? '.tide-empty' : '.tide') }
const script = name => fileURLToPath(new URL(`../dist/${name}`, import.meta.url))
const children = []
let leaving = false

/** Starts a process and resolves with its first message; the whole ends when one of them ends. */
function start(name) {
  const child = fork(script(name), {
    env,
    stdio: ['ignore', 'inherit', 'inherit', 'ipc'],
    execArgv: ['--enable-source-maps'],
  })
  children.push(child)
  child.once('exit', (code, signal) => leave(code ?? (signal ? 1 : 0)))
  return child
}
const message = child => new Promise(resolve => child.once('message', resolve))

function leave(code) {
  if (leaving) return
  leaving = true
  process.exitCode = code
  for (const child of children) if (child.exitCode === null) child.kill('SIGTERM')
  // Whatever they still do, they end.
  setTimeout(() => children.forEach(child => child.kill('SIGKILL')), 10_000).unref()
}
process.on('SIGINT', () => leave(0))
process.on('SIGTERM', () => leave(0))

process.stdout.write(
  empty ? 'Starting …\n' : 'Starting the server and the demo world; the first time takes up to a minute …\n',
)
const server = start('server/server.mjs')
const serverReady = message(server)
if (empty) {
  announce((await serverReady).ready)
} else {
  // The server holds the lock on the data folder; only then does the demo world touch it.
  const { ready } = await serverReady
  const standIns = start('stand-ins/stand-ins.mjs')
  await message(standIns)
  const set = message(standIns)
  standIns.send({ server: ready })
  const { failed, demo } = await set
  if (failed) {
    process.stderr.write(`The demo world could not be set up: ${failed}\n`)
    leave(1)
  } else {
    process.stdout.write(`The simulated sites: ${demo}\n`)
    announce(ready)
  }
}

function announce(url) {
  process.stdout.write(
    `Constant Tide is up after ${((Date.now() - began) / 1000).toFixed(1)} s: ${url}\nCtrl-C stops it.\n`,
  )
}
