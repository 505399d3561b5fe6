/** Tables that appear at a source while its pipeline follows are taken in by its patterns, or reported, as was chosen. */
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import type { ConnectionInfo } from '@tide/core/api/connections'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import { mkdtempSync, rmSync } from 'node:fs'
import { createServer, type Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import type pg from 'pg'
import { startRealPostgres, type TestDatabase } from '../../connectors/tests/real-postgres.ts'
import { eventually } from '../../../e2e/server.ts'
import { createApp } from '../src/app.ts'
import { openDataFolder } from '../src/data-folder.ts'
import { LaterTables } from '../src/later-tables.ts'
import { openServices } from '../src/process.ts'
import type { Services } from '../src/services.ts'
import { call } from '../../stand-ins/src/api-call.ts'

const folder = mkdtempSync(join(tmpdir(), 'constant-tide-later-'))
let database: TestDatabase
let client: pg.Client
let services: Services
let server: Server
let url: string

beforeAll(async () => {
  database = await startRealPostgres()
  client = await database.connect()
  await client.query(`CREATE SCHEMA beds; CREATE TABLE beds.north (id int PRIMARY KEY, at text);
    INSERT INTO beds.north VALUES (1, 'a')`)
  services = await openServices(await openDataFolder(join(folder, 'data'), 'here'))
  server = createServer(createApp(services).callback())
  await new Promise<void>(resolve => server.listen(0, '127.0.0.1', resolve))
  url = `http://127.0.0.1:${(server.address() as AddressInfo).port}`
}, 60_000)
afterAll(async () => {
  server?.close()
  await services?.close()
  await client?.end()
  await database?.close()
  rmSync(folder, { recursive: true, force: true })
})

async function follow(name: string, later: 'take in' | 'report'): Promise<() => Promise<PipelineStatus>> {
  const connection = (name: string, kind: string, config: object) =>
    call<ConnectionInfo>(url, 'POST', '/connections', { name, kind, config })
  const from = await connection(`${name} from`, 'postgres', database.config)
  const to = await connection(`${name} to`, 'duckdb', { path: join(folder, `${name}.duckdb`) })
  const { id } = await call<PipelineStatus>(url, 'POST', '/pipelines', {
    version: 2,
    shape: 'replicate',
    name,
    from: from.id,
    to: to.id,
    targetSchema: 'there',
    tables: [],
    patterns: [
      { take: 'in', like: 'beds.*' },
      { take: 'out', like: '*.tmp_*' },
    ],
    later,
  })
  await call(url, 'POST', `/pipelines/${id}/start`)
  const status = () => call<PipelineStatus>(url, 'GET', `/pipelines/${id}`)
  await eventually(async () => (await status()).state === 'Following')
  return status
}

test('taken in where that was chosen, else reported once; what patterns leave out is neither', async () => {
  const taking = await follow('taking', 'take in')
  const reporting = await follow('reporting', 'report')
  await client.query(`CREATE TABLE beds.south (id int PRIMARY KEY, at text); CREATE TABLE beds.keyless (at text);
    CREATE TABLE beds.tmp_1 (id int PRIMARY KEY); INSERT INTO beds.south VALUES (1, 'b'), (2, 'c')`)
  const later = new LaterTables(services)
  await later.look()
  await later.look()
  const south = await eventually(async () => {
    const { lanes, state } = await taking()
    const lane = lanes.find(({ source }) => source.name === 'south')
    return state === 'Following' && lane?.copied && !lane.detached && lane
  })
  expect(south.copiedRows).toBe(2)
  await client.query(`INSERT INTO beds.south VALUES (3, 'd')`)
  await eventually(
    async () => (await taking()).lanes.find(({ source }) => source.name === 'south')!.inserted === 1,
  )
  expect((await taking()).lanes.map(({ source }) => source.name)).toEqual(['north', 'south'])
  expect((await reporting()).lanes.map(({ source }) => source.name)).toEqual(['north'])
  const lines = await call<{ message: string; pipeline: string; level: string }[]>(url, 'GET', '/log')
  const warnings = lines.filter(({ level }) => level === 'warning').map(({ message }) => message)
  expect(warnings.toSorted()).toEqual([
    'Not all new tables are taken in: beds.keyless has no key. The log does not tell which row was changed.',
    'beds.keyless and beds.south are new at the source and not followed, though the patterns take them in.',
  ])
  await later.close()
})
