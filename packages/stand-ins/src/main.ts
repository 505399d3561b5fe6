/**
 * The process of the stand-ins. Its starter tells it over IPC where the server is, and hears when the world is up. Each site
 * runs in a child, which is started anew when a statement has held it up for too long.
 * Settings: TIDE_DATA (data folder), TIDE_PORT (its own ports follow that one).
 */
import { fork, type ChildProcess } from 'node:child_process'
import { join, resolve } from 'node:path'
import { fileURLToPath } from 'node:url'
import { Worker } from 'node:worker_threads'
import { startBucket } from './bucket/start.ts'
import { benchbookApp, benchbookColleagues, fillBenchbook } from './apps/benchbook.ts'
import { clubgateApp, clubgateColleagues, fillClubgate } from './apps/clubgate.ts'
import { fillPollenpost, pollenpostApp, pollenpostColleagues } from './apps/pollenpost.ts'
import { fillRakeboard, rakeboardApp, rakeboardColleagues } from './apps/rakeboard.ts'
import { startApp } from './apps/start.ts'
import { startRowsheet } from './rowsheet/start.ts'
import { setUpDemo, type DemoSite } from './demo.ts'
import { setUpSends } from './demo-sends.ts'
import { setUpTwoWay } from './demo-two-way.ts'
import { dropSupplierPrices } from './world/supplier-prices.ts'
import { fillSite, isMade, startSite, type SiteOptions } from './site.ts'
import { sitesOf } from './sites.ts'

/** Longer than any statement of ours takes. */
const MOST_HELD_UP_MS = 30_000
const ENDS_WITHIN_MS = 5_000

const data = resolve(process.env.TIDE_DATA ?? '.tide')
const port = Number(process.env.TIDE_PORT ?? 4600)
const sites = sitesOf(data, port)

/** This very program in a process of its own, for a part of it. */
function part(what: 'fill' | 'site', { name }: SiteOptions): ChildProcess {
  return fork(fileURLToPath(import.meta.url), [what, name], {
    stdio: ['ignore', 'inherit', 'inherit', 'ipc'],
  })
}

/** One site's database and its screen, until told to end. */
async function runSite(options: SiteOptions): Promise<void> {
  const beat = new SharedArrayBuffer(4)
  setInterval(() => Atomics.add(new Int32Array(beat), 0, 1), 1000)
  new Worker(new URL('./watchdog.mjs', import.meta.url), {
    workerData: { beat, mostMs: MOST_HELD_UP_MS },
  }).unref()
  const site = await startSite(options)
  process.on('SIGINT', () => {}) // a terminal's Ctrl-C is meant for the starter
  const leave = () => void site.close().then(() => process.exit(0))
  process.on('disconnect', leave) // the parent is gone
  if (!process.connected) leave()
  process.on('SIGTERM', leave)
  const { name, access, screen } = site
  process.send?.({ name, access, screen } satisfies DemoSite)
}

async function fill(site: SiteOptions): Promise<void> {
  if (await isMade(site)) return
  const code = await new Promise(resolve => part('fill', site).once('exit', resolve))
  if (code !== 0) throw new Error(`The site database in ${site.folder} could not be made; see above.`)
}

/** Keeps the sites running, and sets the demo up when the starter says where the server is. */
async function lookAfterSites(): Promise<void> {
  await Promise.all(sites.map(fill))
  const running = new Map<string, ChildProcess>()
  let closing = false
  const start = (site: SiteOptions): Promise<DemoSite> => {
    const child = part('site', site)
    running.set(site.name, child)
    child.once('exit', (code, signal) => {
      if (!closing && signal === 'SIGKILL') {
        process.stderr.write(`${site.name}: a statement held up the database; it starts again.\n`)
        return void start(site)
      }
      process.exit(code ?? 1)
    })
    return new Promise(resolve => child.once('message', said => resolve(said as DemoSite)))
  }
  const close = () => {
    closing = true
    for (const child of running.values()) child.kill('SIGTERM')
    setTimeout(() => running.forEach(child => child.kill('SIGKILL')), ENDS_WITHIN_MS)
  }
  process.on('SIGINT', close)
  process.on('SIGTERM', close)
  process.on('disconnect', close) // the starter is gone
  if (process.connected === false) close()
  const portsOf = (place: number) => ({
    api: port === 0 ? 0 : port + place,
    screen: port === 0 ? 0 : port + place + 1,
  })
  const folderOf = (app: string) => join(data, 'stand-ins', app)
  const apps = await Promise.all([
    startApp(folderOf('clubgate'), clubgateApp, fillClubgate, clubgateColleagues, portsOf(18)),
    startApp(folderOf('pollenpost'), pollenpostApp, fillPollenpost, pollenpostColleagues, portsOf(20)),
    startApp(folderOf('rakeboard'), rakeboardApp, fillRakeboard, rakeboardColleagues, portsOf(22)),
    startApp(folderOf('benchbook'), benchbookApp, fillBenchbook, benchbookColleagues, portsOf(24)),
    startRowsheet(folderOf('rowsheet'), portsOf(26)),
  ])
  const [bucket, ...up] = await Promise.all([
    startBucket(folderOf('bucket'), {
      store: port === 0 ? 0 : port + 16,
      screen: port === 0 ? 0 : port + 17,
    }),
    ...sites.map(start),
  ])
  const screens = [...up, { name: 'bucket', screen: bucket.screen }, ...apps]
  const lake = join(data, 'growers_lake')
  process.on('message', ({ server }: { server: string }) => {
    dropSupplierPrices(lake)
    setUpDemo(up, {
      server,
      warehouse: join(data, 'growers_warehouse.duckdb'),
      lake,
      bucket,
      apps,
    })
      .then(() => process.send?.({ demo: screens.map(({ name, screen }) => `${name} ${screen}`).join(', ') }))
      .catch(error => process.send?.({ failed: (error as Error).message }))
      .then(() => setUpTwoWay(server, apps))
      .catch(error => process.stderr.write(`${(error as Error).message}\n`))
      .then(() => setUpSends(server))
      .catch(error => process.stderr.write(`${(error as Error).message}\n`))
  })
  process.send?.({ ready: up[0]!.screen })
}

try {
  const [what, name] = process.argv.slice(2)
  const site = sites.find(one => one.name === name)
  if (what === 'fill' && site) {
    await fillSite(site)
    process.exit(0)
  }
  await (site ? runSite(site) : lookAfterSites())
} catch (error) {
  process.stderr.write(`${(error as Error).message}\n`)
  process.exit(1)
}
