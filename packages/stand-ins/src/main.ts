/**
 * The process of the stand-ins. Its starter tells it over IPC where the server is, and hears when the world is up.
 * Settings: TIDE_DATA (data folder), TIDE_PORT (its own ports follow that one).
 */
import { join, resolve } from 'node:path'
import { setUpDemo } from './demo.ts'
import { startSite } from './site.ts'

const data = resolve(process.env.TIDE_DATA ?? '.tide')
const port = Number(process.env.TIDE_PORT ?? 4600)
const beside = (offset: number) => (port === 0 ? 0 : port + offset)

try {
  const site = await startSite({
    name: 'Alderbank',
    folder: join(data, 'stand-ins', 'alderbank'),
    seed: 104,
    ports: { database: beside(11), screen: beside(10) },
    pace: 'gentle',
  })
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
