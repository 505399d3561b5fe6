/**
 * The process of the stand-ins. Its starter tells it over IPC where the server is, and hears when the world is up. The site
 * itself runs in a child, which is started anew when a statement has held it up for too long.
 * Settings: TIDE_DATA (data folder), TIDE_PORT (its own ports follow that one).
 */
import { fork, type ChildProcess } from 'node:child_process'
import { join, resolve } from 'node:path'
import { fileURLToPath } from 'node:url'
import { Worker } from 'node:worker_threads'
import { setUpDemo } from './demo.ts'
import { fillSite, isMade, startSite, type SiteOptions } from './site.ts'

/** Longer than any statement of ours takes. */
const MOST_HELD_UP_MS = 30_000
const ENDS_WITHIN_MS = 5_000

const data = resolve(process.env.TIDE_DATA ?? '.tide')
const port = Number(process.env.TIDE_PORT ?? 4600)
const beside = (offset: number) => (port === 0 ? 0 : port + offset)

const alderbank: SiteOptions = {
  name: 'Alderbank',
  folder: join(data, 'stand-ins', 'alderbank'),
  seed: 104,
  ports: { database: beside(11), screen: beside(10) },
  pace: 'gentle',
}

/** This very program in a process of its own, for a part of it. */
function part(name: string): ChildProcess {
  return fork(fileURLToPath(import.meta.url), [name], { stdio: ['ignore', 'inherit', 'inherit', 'ipc'] })
}

/** The site's database and its screen, until told to end. */
async function runSite(): Promise<void> {
  const beat = new SharedArrayBuffer(4)
  setInterval(() => Atomics.add(new Int32Array(beat), 0, 1), 1000)
  new Worker(new URL('./watchdog.mjs', import.meta.url), {
    workerData: { beat, mostMs: MOST_HELD_UP_MS },
  }).unref()
  const site = await startSite(alderbank)
  process.on('SIGINT', () => {}) // a terminal's Ctrl-C is meant for the starter
  process.on('SIGTERM', () => void site.close().then(() => process.exit(0)))
  process.on('message', ({ server }: { server: string }) => {
    setUpDemo(site, { server, warehouse: join(data, 'growers_warehouse.duckdb') })
      .then(() => process.send?.({ demo: site.screen }))
      .catch(error => process.send?.({ failed: (error as Error).message }))
  })
  process.send?.({ ready: site.screen })
}

/** Keeps the site running, and passes on what it and the starter say to each other. */
async function lookAfterSite(): Promise<void> {
  if (!(await isMade(alderbank))) {
    const code = await new Promise(resolve => part('fill').once('exit', resolve))
    if (code !== 0) throw new Error(`The site database in ${alderbank.folder} could not be made; see above.`)
  }
  let closing = false
  let site: ChildProcess
  const start = (again: boolean) => {
    site = part('site')
    if (!again) site.on('message', said => process.send?.(said))
    site.once('exit', (code, signal) => {
      if (!closing && signal === 'SIGKILL') {
        process.stderr.write(`${alderbank.name}: a statement held up the database; it starts again.\n`)
        return start(true)
      }
      process.exit(code ?? 1)
    })
  }
  start(false)
  const close = () => {
    closing = true
    site.kill('SIGTERM')
    setTimeout(() => site.kill('SIGKILL'), ENDS_WITHIN_MS)
  }
  process.on('SIGINT', close)
  process.on('SIGTERM', close)
  process.on('disconnect', close) // the starter is gone
  process.on('message', said => site.send(said as object))
}

try {
  if (process.argv[2] === 'fill') {
    await fillSite(alderbank)
    process.exit(0)
  }
  await (process.argv[2] === 'site' ? runSite() : lookAfterSite())
} catch (error) {
  process.stderr.write(`${(error as Error).message}\n`)
  process.exit(1)
}
