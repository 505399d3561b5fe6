/**
 * The process of the stand-ins. Its starter tells it over IPC where the server is, and hears when the world is up.
 * Settings: TIDE_DATA (data folder), TIDE_PORT (its own ports follow that one).
 */
import { fork } from 'node:child_process'
import { join, resolve } from 'node:path'
import { fileURLToPath } from 'node:url'
import { setUpDemo } from './demo.ts'
import { fillSite, isMade, startSite, type SiteOptions } from './site.ts'

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

/** Makes the site in a process of its own. */
async function fillElsewhere(): Promise<void> {
  const child = fork(fileURLToPath(import.meta.url), ['fill'], {
    stdio: ['ignore', 'inherit', 'inherit', 'ipc'],
  })
  const code = await new Promise(resolve => child.once('exit', resolve))
  if (code !== 0) throw new Error(`The site database in ${alderbank.folder} could not be made; see above.`)
}

if (process.argv[2] === 'fill') {
  await fillSite(alderbank)
  process.exit(0)
}
try {
  if (!(await isMade(alderbank))) await fillElsewhere()
  const site = await startSite(alderbank)
  let closing = false
  const close = async () => {
    if (closing) return
    closing = true
    await site.close()
    process.exit(0)
  }
  process.on('SIGINT', () => void close())
  process.on('SIGTERM', () => void close())
  process.on('disconnect', () => void close()) // the starter is gone
  process.on('message', ({ server }: { server: string }) => {
    setUpDemo(site, { server, warehouse: join(data, 'growers_warehouse.duckdb') })
      .then(() => process.send?.({ demo: site.screen }))
      .catch(error => process.send?.({ failed: (error as Error).message }))
  })
  process.send?.({ ready: site.screen })
} catch (error) {
  process.stderr.write(`${(error as Error).message}\n`)
  process.exit(1)
}
