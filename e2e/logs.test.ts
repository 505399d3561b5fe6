/** Logs through the real pages: a MariaDB connection by its form, its checks, and what its sheet says of the journal. */
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import type { ConnectionInfo } from '@tide/core/api/connections'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { By, type WebDriver } from 'selenium-webdriver'
import { startRealMariadb, type RealMariadb } from '../packages/connectors/tests/real-mariadb.ts'
import { call } from '../packages/stand-ins/src/api-call.ts'
import { openBrowser } from './browser.ts'
import { pagesOf } from './pages.ts'
import { eventually, startServer, type ServerProcess } from './server.ts'

const folder = mkdtempSync(join(tmpdir(), 'constant-tide-logs-'))
let maria: RealMariadb
let server: ServerProcess
let driver: WebDriver
const { find, xpath, button, click, type, sees, open } = pagesOf(
  () => driver,
  () => server.url,
)

beforeAll(async () => {
  maria = await startRealMariadb()
  const client = await maria.connect()
  await client.run('CREATE DATABASE nursery')
  await client.run('CREATE TABLE nursery.trays (id int PRIMARY KEY, label varchar(40), seedlings int)')
  await client.run(`INSERT INTO nursery.trays VALUES (1, 'kale', 40), (2, 'leek', 60)`)
  await client.close()
  server = await startServer(folder)
  driver = await openBrowser()
}, 180_000)
afterAll(async () => {
  await driver?.quit()
  await server?.stop()
  await maria?.close()
  rmSync(folder, { recursive: true, force: true })
})

test('a MariaDB connection is made by its form, and its checks speak of its log', async () => {
  const { host, port, database, user, password } = maria.config
  await open('/connections')
  await click(button('New connection'))
  await click(xpath('//main//button[contains(., "MariaDB")]'))
  await type('Name', 'Potting shed')
  await type('Host', host)
  await type('Port', String(port))
  await type('Database', database)
  await type('User', user)
  await type('Password', 'not this')
  await click(button('Test'))
  await sees('refuses this user or password')
  await type('Password', password)
  await click(button('Test'))
  await sees('binlog_row_image is FULL')
  await click(button('Save'))
  await sees('Potting shed')
  const saved = await eventually(async () =>
    (await call<ConnectionInfo[]>(server.url, 'GET', '/connections')).find(
      ({ name }) => name === 'Potting shed',
    ),
  )
  expect(saved.secretsSet).toEqual(['password'])
})

test('its sheet shows who reads the journal and hands out what is in it', async () => {
  const [{ id: from }] = (await call<ConnectionInfo[]>(server.url, 'GET', '/connections')) as [ConnectionInfo]
  const { id: to } = await call<{ id: string }>(server.url, 'POST', '/connections', {
    name: 'Warehouse',
    kind: 'duckdb',
    config: { path: join(folder, 'warehouse.duckdb') },
  })
  const { id } = await call<PipelineStatus>(server.url, 'POST', '/pipelines', {
    version: 1,
    name: 'Trays',
    from,
    to,
    targetSchema: 'shed',
    tables: [{ namespace: 'nursery', name: 'trays' }],
  })
  await call(server.url, 'POST', `/pipelines/${id}/start`)
  const status = () => call<PipelineStatus>(server.url, 'GET', `/pipelines/${id}`)
  await eventually(async () => (await status()).state === 'Following', 60, 'the copy')
  const client = await maria.connect()
  await client.run(`UPDATE nursery.trays SET seedlings = 41 WHERE id = 1`)
  await client.close()
  await eventually(async () => (await status()).landed === 1, 30, 'the change')
  await open(`/connections/${from}`)
  await sees('Reading the source’s changes.')
  const journal = await xpath('//section[@aria-label="Journal"]')
  const shown = await journal.getText()
  expect(shown).toMatch(/binlog\.\d{6}:\d+/)
  expect(await (await xpath('//section[@aria-label="Journal"]//tbody')).getText()).toContain('Trays')
  const link = await xpath('//section[@aria-label="Journal"]//a[contains(., "JSON Lines")]')
  const lines = (await (await fetch((await link.getAttribute('href'))!)).text()).trim().split('\n')
  expect(lines.map(line => JSON.parse(line))).toMatchObject([
    { table: 'nursery.trays', op: 'update', after: { id: '1', label: 'kale', seedlings: '41' } },
  ])
  await click(xpath('//section[@aria-label="Journal"]//a[normalize-space()="Trays"]'))
  await sees('caught up', 30)
})

test('tables are added to a pipeline that runs, with a plan for them alone, and a lane is copied again', async () => {
  const client = await maria.connect()
  await client.run('CREATE TABLE nursery.shelves (id int PRIMARY KEY, room varchar(20))')
  await client.run(`INSERT INTO nursery.shelves VALUES (1, 'north'), (2, 'south'), (3, 'attic')`)
  const [{ id }] = (await call<PipelineStatus[]>(server.url, 'GET', '/pipelines')) as [PipelineStatus]
  const status = () => call<PipelineStatus>(server.url, 'GET', `/pipelines/${id}`)
  await open(`/pipelines/${id}/setup`)
  await click(button('Change the setup'))
  await sees('Nothing is changed.')
  await click(button('Look again'))
  await click(find(By.css('[aria-label="nursery.shelves"]')))
  await sees('Adds 1 lane')
  await sees('Leaves 1 lane as they are')
  await click(button('Apply the changes'))
  await sees('Complete up to', 60)
  await eventually(async () => (await status()).lanes[1]?.copied, 30, 'the added table')
  await client.run(`UPDATE nursery.shelves SET room = 'cellar' WHERE id = 3`)
  await client.run(`UPDATE nursery.trays SET seedlings = 42 WHERE id = 1`)
  const counts = ({ lanes }: PipelineStatus) => lanes.map(({ rowsThere, updated }) => [rowsThere, updated])
  await eventually(async () => String(counts(await status())) === '2,2,3,1', 30, 'both lanes’ changes')
  await sees('nursery.shelves')
  await click(find(By.css('[aria-label="Recopy nursery.shelves"]')))
  await sees('The other lanes go on meanwhile.')
  await click(button('Empty and copy it'))
  await client.run(`INSERT INTO nursery.trays VALUES (3, 'chard', 12)`)
  const done = async () => {
    const { lanes, state, consistent } = await status()
    return (
      state === 'Following' &&
      consistent &&
      lanes.every(({ detached }) => !detached) &&
      lanes[0]!.inserted === 1
    )
  }
  await eventually(done, 30, 'the recopy')
  const rows = async () => (await status()).lanes.map(({ rowsThere }) => rowsThere).join()
  await eventually(async () => (await rows()) === '3,3', 10, 'the rows of both')
  // One stands still while the other goes on.
  await click(find(By.css('[aria-label="Pause nursery.shelves"]')))
  await sees('Its changes wait in the journal')
  await click(button('Let it stand still'))
  await sees('nursery.shelves stands still since')
  await client.run(`INSERT INTO nursery.shelves VALUES (4, 'loft')`)
  await client.run(`INSERT INTO nursery.trays VALUES (4, 'leek', 9)`)
  await eventually(async () => (await rows()) === '4,3', 10, 'the rows of the one that goes on')
  await click(find(By.css('[aria-label="Continue nursery.shelves"]')))
  await eventually(async () => (await status()).consistent, 30, 'both together again')
  expect(await rows()).toBe('4,4')
  await client.close()
})

test('a source that was restarted is read again, and its sheet says so', async () => {
  const [pipeline] = (await call<PipelineStatus[]>(server.url, 'GET', '/pipelines')) as [PipelineStatus]
  await maria.restart('SIGTERM')
  await eventually(
    async () => (await call<PipelineStatus>(server.url, 'GET', `/pipelines/${pipeline.id}`)).lagSeconds === 0,
    60,
    'the source again',
  )
  await open(`/connections/${pipeline.definition.from}`)
  await sees('Reading the source’s changes.')
})
