/** A process that keeps two apps in step until it is killed. Its starter says where they are. */
import { openStore } from '@tide/store/store'
import { createServer } from 'node:http'
import type { AddressInfo } from 'node:net'
import { createApp } from '../../packages/server/src/app.ts'
import { composeServices, newId } from '../../packages/server/src/services.ts'
import type { SyncerWorld } from './syncers.ts'
import { sheetsOf, tablesOf, twoWayOf } from './world.ts'

const { world, folder, connections, once } = JSON.parse(process.argv[2]!) as SyncerWorld & {
  /** Until nothing is left to do; then a few passes more, between two messages. */
  once: boolean
}
const KINDS = {
  apps: ['rakeboard', 'benchbook'],
  tables: ['postgres', 'mariadb'],
  sheets: ['clubgate', 'rowsheet'],
}[world]
const definitionOf = { apps: twoWayOf, tables: tablesOf, sheets: sheetsOf }[world]

const store = await openStore({ folder, passphrase: 'soak' })
const services = await composeServices(store, 'soak', {
  folder,
  name: 'soak',
  home: 'soak',
  unlock: () => Promise.resolve(),
})
const { engine } = services
// Both apps say here when something has changed, where they can.
const server = createServer(createApp(services).callback())
await new Promise<void>(resolve => server.listen(0, '127.0.0.1', resolve))
services.reached.at = `http://127.0.0.1:${(server.address() as AddressInfo).port}`
let [record] = await store.pipelines.list()
if (!record) {
  const connection = async (kind: string, given: object) => {
    const id = newId()
    const { token, password, ...config } = given as Record<string, string>
    const secrets = { ...(token ? { token } : {}), ...(password ? { password } : {}) }
    await store.connections.save({ id, name: kind, kind, config }, secrets)
    return id
  }
  const from = await connection(KINDS[0]!, connections.a)
  const to = await connection(KINDS[1]!, connections.b)
  await store.pipelines.create(newId(), definitionOf(from, to))
  ;[record] = await store.pipelines.list()
  await engine.begin(record!.id, { definition: record!.definition, lanes: [], steps: [] }, [null])
}
const { id } = record!
const state = async () => (await engine.status(id))!
/** A whole pass that begins from now on. */
const pass = async (sweep: boolean) => {
  const asked = Date.now()
  let heard = false
  for (;;) {
    const { state: is, reason, twoWay } = await state()
    if (is === 'Stopped') {
      process.stderr.write(`stopped: ${JSON.stringify(reason)}\n`)
      process.exit(2)
    }
    if (!heard && is === 'Following') {
      await engine.deeds.twoWay(id, { deed: 'pass', sweep })
      heard = true
    }
    if (heard && twoWay?.last && Date.parse(twoWay.last.beganAt) > asked) return
    await new Promise(resolve => setTimeout(resolve, 20))
  }
}
process.send?.('follows')
if (once) {
  for (let i = 0; i < 4; i++) await pass(true)
  process.send?.('quiet')
  for (let i = 0; i < 3; i++) await pass(i === 1)
  process.send?.('over')
  await services.close()
  process.exit(0)
}
for (;;) {
  await new Promise(resolve => setTimeout(resolve, 1500))
  await pass(true).catch((thrown: unknown) => process.send?.(String(thrown)))
}
