/** What goes wrong is said with the thing and the remedy, in the API, and nothing is lost by it. */
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import { DuckDBInstance } from '@duckdb/node-api'
import type { ConnectionInfo } from '@tide/core/api/connections'
import { asReplication } from '@tide/core/definition/definition'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { PlanAnswer } from '@tide/core/api/plans'
import type { Problem } from '@tide/core/api/problem'
import { spawn } from 'node:child_process'
import { mkdtempSync, rmSync, statSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import type pg from 'pg'
import { startRealPostgres, type TestDatabase } from '../packages/connectors/tests/real-postgres.ts'
import { call } from '../packages/stand-ins/src/api-call.ts'
import { eventually, startServer, type ServerProcess } from './server.ts'

const folder = mkdtempSync(join(tmpdir(), 'constant-tide-bad-'))
let database: TestDatabase
let client: pg.Client
let server: ServerProcess
let from: ConnectionInfo
let to: ConnectionInfo

beforeAll(async () => {
  database = await startRealPostgres()
  client = await database.connect()
  server = await startServer(folder)
  from = await call(server.url, 'POST', '/connections', {
    name: 'Site',
    kind: 'postgres',
    config: database.config,
  })
  to = await call(server.url, 'POST', '/connections', {
    name: 'Warehouse',
    kind: 'duckdb',
    config: { path: join(folder, 'w.duckdb') },
  })
}, 60_000)
afterAll(async () => {
  await server?.kill()
  await client?.end()
  await database?.close()
  rmSync(folder, { recursive: true, force: true })
})

const refused = async (
  method: string,
  path: string,
  body?: unknown,
): Promise<{ status: number; problem: Problem }> => {
  const response = await fetch(`${server.url}/api${path}`, {
    method,
    ...(body === undefined
      ? {}
      : { body: JSON.stringify(body), headers: { 'Content-Type': 'application/json' } }),
  })
  expect(response.headers.get('Content-Type')).toContain('application/problem+json')
  return { status: response.status, problem: (await response.json()) as Problem }
}
const post = (path: string, body?: unknown) => refused('POST', path, body)
const make = async (name: string, table: string, targetSchema = name, target = to) =>
  call<PipelineStatus>(server.url, 'POST', '/pipelines', {
    version: 1,
    name,
    from: from.id,
    to: target.id,
    targetSchema,
    tables: [{ namespace: 'public', name: table }],
  })
const start = (id: string) => call<PipelineStatus>(server.url, 'POST', `/pipelines/${id}/start`)
const status = (id: string) => call<PipelineStatus>(server.url, 'GET', `/pipelines/${id}`)
const until = (id: string, what: (status: PipelineStatus) => boolean) =>
  eventually(async () => {
    const now = await status(id)
    return what(now) && now
  }, 40)
const following = (now: PipelineStatus) => now.state === 'Following' && now.consistent

test('a body that is not right is refused property by property, and secrets are never answered', async () => {
  const { status, problem } = await post('/connections', {
    name: 'X',
    kind: 'postgres',
    config: { host: '', port: 99999, user: 'u', extra: 1 },
  })
  expect(status).toBe(422)
  for (const part of [
    'Database is missing',
    'Host is empty',
    'Port must be <= 65535',
    'extra is not known here',
  ])
    expect(problem.detail).toMatch(part)
  expect(problem.remedy).not.toBe('')
  expect(
    (await post('/connections', { name: 'Site', kind: 'duckdb', config: { path: '/tmp/x' } })).problem.detail,
  ).toBe('Another connection is called “Site”.')
  expect((await post('/connections', { name: 'Y', kind: 'nothing', config: {} })).problem.detail).toContain(
    'no connector “nothing”',
  )
  const everything = JSON.stringify([
    await call(server.url, 'GET', '/connections'),
    await call(server.url, 'GET', `/connections/${from.id}`),
  ])
  expect(everything).not.toContain(database.config.password)
  expect(statSync(join(folder, 'secrets.key')).mode & 0o777).toBe(0o600)
})

test('what a source lacks to be followed is refused in the plan, with the text that remedies it, until it is put right', async () => {
  await client.query(`CREATE ROLE onlooker LOGIN PASSWORD 'reads'; CREATE TABLE looked_at (id int PRIMARY KEY);
    GRANT USAGE ON SCHEMA public TO onlooker; GRANT SELECT ON looked_at TO onlooker`)
  const onlooker = await call<ConnectionInfo>(server.url, 'POST', '/connections', {
    name: 'Onlooker',
    kind: 'postgres',
    config: { ...database.config, user: 'onlooker', password: 'reads', method: 'log' },
  })
  const definition = {
    version: 2,
    shape: 'replicate',
    name: 'Looking',
    from: onlooker.id,
    to: to.id,
    targetSchema: 'looking',
    tables: [{ namespace: 'public', name: 'looked_at' }],
  }
  const plan = (fresh: boolean) => call<PlanAnswer>(server.url, 'POST', '/plan', { definition, fresh })
  const told = {
    level: 'refused',
    section: 'from',
    message: 'Onlooker, right to replicate: onlooker may not read the log.',
    paste: 'ALTER ROLE "onlooker" REPLICATION;',
  }
  expect((await plan(false)).notes).toContainEqual(expect.objectContaining(told))
  const { id } = await call<PipelineStatus>(server.url, 'POST', '/pipelines', definition)
  expect((await post(`/pipelines/${id}/start`)).problem.detail).toBe(told.message)
  expect((await status(id)).state).toBe('Draft')
  await client.query(told.paste)
  expect((await plan(true)).notes).not.toContainEqual(expect.objectContaining({ section: 'from' }))
  await call(server.url, 'DELETE', `/pipelines/${id}`)
})

test('a foreign page cannot write', async () => {
  const response = await fetch(`${server.url}/api/pipelines/x/start`, {
    method: 'POST',
    headers: { Origin: 'http://elsewhere.example' },
  })
  expect(((await response.json()) as Problem).detail).toContain('http://elsewhere.example')
})

test('two pipelines into one table: the second is refused and told which has it', async () => {
  await client.query('CREATE TABLE shared (id int PRIMARY KEY); INSERT INTO shared VALUES (1)')
  const first = await make('Shared nightly', 'shared', 'one')
  await start(first.id)
  const second = await make('Another', 'shared', 'ONE')
  const { status, problem } = await post(`/pipelines/${second.id}/start`)
  expect(status).toBe(422)
  expect(problem).toMatchObject({
    detail: 'ONE.shared belongs to the pipeline “Shared nightly”.',
    remedy: expect.stringContaining('another target schema'),
  })
})

test('a pipeline without a name is not started', async () => {
  await client.query('CREATE TABLE IF NOT EXISTS shared (id int PRIMARY KEY)')
  const { id } = await make('', 'shared', 'unnamed')
  expect((await post(`/pipelines/${id}/start`)).problem).toMatchObject({
    detail: 'The pipeline has no name.',
    remedy: 'Give it one.',
  })
})

test('two starts at once into one table: one of them is refused', async () => {
  await client.query('CREATE TABLE contested (id int PRIMARY KEY)')
  const made = [await make('First', 'contested', 'c'), await make('Second', 'contested', 'c')]
  const ended = await Promise.allSettled(made.map(({ id }) => start(id)))
  expect(ended.map(({ status }) => status).sort()).toEqual(['fulfilled', 'rejected'])
})

test('what does not run is not changed as if it did', async () => {
  await client.query('CREATE TABLE runs (id int PRIMARY KEY); CREATE TABLE joins (id int PRIMARY KEY)')
  const { id } = await make('runs', 'runs')
  const status = await call<PipelineStatus>(server.url, 'GET', `/pipelines/${id}`)
  const definition = asReplication(status.definition)
  const joins = { ...definition, tables: [...definition.tables, { namespace: 'public', name: 'joins' }] }
  expect(await post(`/pipelines/${id}/change`, { definition: joins })).toMatchObject({
    status: 422,
    problem: { detail: '“runs” is draft.' },
  })
})

test('a definition of a shape that nobody knows is refused with those that there are', async () => {
  const body = { version: 2, shape: 'braid', name: 'x', from: '', to: '', targetSchema: 's', tables: [] }
  expect((await post('/pipelines', body)).problem).toMatchObject({
    detail: 'There is no shape “braid”.',
    remedy: expect.stringContaining('replicate'),
  })
  expect((await post('/pipelines', { ...body, shape: undefined })).problem.detail).toBe(
    'The definition names no shape.',
  )
})

test('a table dropped between plan and start is named', async () => {
  await client.query('CREATE TABLE fleeting (id int PRIMARY KEY)')
  const { id } = await make('Fleeting', 'fleeting')
  await call(server.url, 'GET', `/connections/${from.id}/catalogue`)
  await client.query('DROP TABLE fleeting')
  expect((await post(`/pipelines/${id}/start`)).problem.detail).toBe('public.fleeting is not there any more.')
})

test('a start is the plan that was shown, or is refused with what is different by now', async () => {
  await client.query('CREATE TABLE shown (id int PRIMARY KEY, v text)')
  const { id, definition } = await make('Shown', 'shown')
  await call(server.url, 'GET', `/connections/${from.id}/catalogue?fresh=true`)
  const seen = await call<PlanAnswer>(server.url, 'POST', '/plan', { pipeline: id, definition })
  await client.query('ALTER TABLE shown ADD COLUMN added int; INSERT INTO shown VALUES (1)')
  const { status, problem } = await post(`/pipelines/${id}/start`, { plan: seen.digest })
  expect(status).toBe(422)
  expect(problem.detail).toBe(
    'This is not the plan that was shown any more. public.shown has a new column added.',
  )
  // A plan of another setup is not the one that was shown either.
  const again = await call<PlanAnswer>(server.url, 'POST', '/plan', { pipeline: id, definition })
  await call(server.url, 'PUT', `/pipelines/${id}`, { ...definition, targetSchema: 'other' })
  expect((await post(`/pipelines/${id}/start`, { plan: again.digest })).status).toBe(422)
  await call(server.url, 'PUT', `/pipelines/${id}`, definition)
  await call(server.url, 'POST', `/pipelines/${id}/start`, { plan: again.digest })
  await until(id, following)
  expect((await refused('PUT', `/pipelines/${id}`, definition)).problem.detail).toMatch(
    /“Shown” is (copying|following)/,
  )
})

test('where nothing may be held, a value that does not fit stops its pipeline with the row; corrected, it goes on and nothing is missing', async () => {
  await client.query(
    'CREATE TABLE fits (id int PRIMARY KEY, price numeric(6,2)); INSERT INTO fits SELECT i, i FROM generate_series(1, 50) i',
  )
  const { id, definition } = await make('Fits', 'fits')
  await call(server.url, 'PUT', `/pipelines/${id}`, { ...definition, held: { most: 0 } })
  await start(id)
  await until(id, following)
  await client.query(`INSERT INTO fits VALUES (51, 51); UPDATE fits SET price = 'NaN' WHERE id = 7`)
  const stopped = await until(id, now => now.state === 'Stopped')
  expect(stopped.reason).toMatchObject({
    kind: 'value',
    message: 'Fits.fits.price: the value NaN does not fit DECIMAL(6,2), in the row with id 7.',
    remedy: expect.stringContaining('Correct the value'),
  })
  await client.query(`UPDATE fits SET price = 7.5 WHERE id = 7`)
  await call(server.url, 'POST', `/pipelines/${id}/continue`)
  await until(id, now => following(now) && now.backlog === 0 && now.lanes[0]!.rowsThere === 51)
  const { rows } = await call<{ rows: string[][] }>(server.url, 'POST', '/query', {
    connection: to.id,
    sql: 'SELECT price FROM "Fits".fits WHERE id = 7',
  })
  expect(rows).toEqual([['7.50']])
})

test('columns changed at the source stop the pipeline; started again it has them', async () => {
  await client.query('CREATE TABLE growing (id int PRIMARY KEY); INSERT INTO growing VALUES (1)')
  const { id } = await make('Growing', 'growing')
  await start(id)
  await until(id, following)
  await client.query(`ALTER TABLE growing ADD COLUMN more text DEFAULT 'm'; INSERT INTO growing VALUES (2)`)
  const { reason } = await until(id, now => now.state === 'Stopped')
  expect(reason!.message).toBe('The columns of public.growing were changed at the source: more is new.')
  await start(id)
  await until(id, now => following(now) && now.lanes[0]!.rowsThere === 2)
  const { rows } = await call<{ rows: string[][] }>(server.url, 'POST', '/query', {
    connection: to.id,
    sql: 'SELECT * FROM "Growing".growing ORDER BY id',
  })
  expect(rows).toEqual([
    ['1', 'm'],
    ['2', 'm'],
  ])
})

test('a target file that another process holds is named with its holder, and tried again until it is free', async () => {
  await client.query('CREATE TABLE locked (id int PRIMARY KEY); INSERT INTO locked VALUES (1)')
  const path = join(folder, 'held.duckdb')
  const other = await call<ConnectionInfo>(server.url, 'POST', '/connections', {
    name: 'Held',
    kind: 'duckdb',
    config: { path },
  })
  const { id } = await make('Locked', 'locked', 'locked', other)
  const holder = spawn(
    process.execPath,
    [
      '-e',
      `require('@duckdb/node-api').DuckDBInstance.create(${JSON.stringify(path)}).then(() => { console.log('held'); setInterval(() => {}, 1000) })`,
    ],
    { stdio: ['ignore', 'pipe', 'inherit'] },
  )
  await new Promise(resolve => holder.stdout.once('data', resolve))
  const { status: code, problem } = await post(`/pipelines/${id}/start`)
  expect(code).toBe(503)
  expect(problem).toMatchObject({
    detail: expect.stringContaining(`held by process ${holder.pid}`),
    remedy: expect.stringContaining('Close it there'),
  })
  const gone = new Promise(resolve => holder.once('exit', resolve))
  holder.kill()
  await gone
  await start(id)
  await until(id, following)
})

test('a source that goes away is tried again, visibly, and nothing is lost', async () => {
  await client.query('CREATE TABLE cut (id int PRIMARY KEY)')
  const { id } = await make('Cut', 'cut')
  await start(id)
  await until(id, following)
  await client.query(
    `SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = 'Constant Tide'`,
  )
  await client.query('INSERT INTO cut SELECT generate_series(1, 500)')
  await until(id, now => following(now) && now.lanes[0]!.rowsThere === 500)
})

test('what stopped for a reason is deleted only when its capture may stay', async () => {
  await client.query('CREATE TABLE going (id int PRIMARY KEY)')
  const { id } = await make('Going', 'going')
  await start(id)
  await until(id, following)
  const remove = (query: string) => fetch(`${server.url}/api/pipelines/${id}${query}`, { method: 'DELETE' })
  expect((await remove('?leaveCapture=true')).status).toBe(422)
  await client.query('DROP TABLE going')
  await until(id, now => now.state === 'Stopped')
  expect(((await (await remove('')).json()) as Problem).remedy).toContain('Stop it first')
  expect((await remove('?leaveCapture=true')).status).toBe(204)
})

test('a target is not moved under the pipelines that write to it', async () => {
  const response = await fetch(`${server.url}/api/connections/${to.id}`, {
    method: 'PUT',
    body: JSON.stringify({
      name: 'Warehouse',
      kind: 'duckdb',
      config: { path: join(folder, 'elsewhere.duckdb') },
    }),
    headers: { 'Content-Type': 'application/json' },
  })
  expect(((await response.json()) as Problem).detail).toMatch(/^Warehouse is written to by “Shared nightly”/)
})

test('a connection in use is not deleted', async () => {
  const response = await fetch(`${server.url}/api/connections/${to.id}`, { method: 'DELETE' })
  expect(((await response.json()) as Problem).detail).toContain('Warehouse is used by “Shared nightly”')
})

test('a second server on the same data folder, or on a taken port, says so in one line', async () => {
  await expect(startServer(folder)).rejects.toThrow(
    /ended with 1: Another server works on the data folder .* Stop it, or set TIDE_DATA to another folder\.\n$/,
  )
  const port = Number(new URL(server.url).port)
  await expect(startServer(join(folder, 'second'), port)).rejects.toThrow(
    new RegExp(`ended with 1: Port ${port} on 127.0.0.1 is taken. Set TIDE_PORT to another.\n$`),
  )
  await expect(startServer('/dev/null/nowhere')).rejects.toThrow(
    /ended with 1: Nothing can be written in the folder \/dev\/null\/nowhere: .+\. Set TIDE_DATA to one that can be written\.\n$/,
  )
  // There, making a folder comes to no end.
  await expect(startServer('/proc/constant-tide/data')).rejects.toThrow(
    /ended with 1: Nothing can be written in the folder \/proc\/constant-tide\/data: .+\. Set TIDE_DATA/,
  )
})

test('the checkpoint can be read by plain SQL once the server is gone', async () => {
  expect(await server.stop()).toBe(0)
  const instance = await DuckDBInstance.create(join(folder, 'w.duckdb'))
  const connection = await instance.connect()
  const read = await connection.runAndReadAll(
    'SELECT count(*)::INT, bool_and(complete_up_to > now() - INTERVAL 5 MINUTE) FROM constant_tide.checkpoint',
  )
  expect(read.getRows()).toEqual([[7, true]])
  instance.closeSync()
})
