/** `tide`, as a build server would use it: what it says, and with which exit code. */
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { PositionsAnswer } from '@tide/core/api/rewind'
import { spawnSync } from 'node:child_process'
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { startRealPostgres, type TestDatabase } from '../packages/connectors/tests/real-postgres.ts'
import { call } from '../packages/stand-ins/src/api-call.ts'
import { eventually, startServer, type ServerProcess } from './server.ts'

const folder = mkdtempSync(join(tmpdir(), 'constant-tide-cli-'))
const file = join(folder, 'beds.yaml')
let database: TestDatabase
let server: ServerProcess

beforeAll(async () => {
  database = await startRealPostgres()
  const client = await database.connect()
  await client.query(
    `CREATE TABLE beds (id int PRIMARY KEY, mail text); CREATE TABLE sheds (id int PRIMARY KEY); INSERT INTO beds VALUES (1, 'a@example.org')`,
  )
  await client.end()
  server = await startServer(folder)
  const connection = (name: string, kind: string, config: object) =>
    call(server.url, 'POST', '/connections', { name, kind, config })
  await connection('Site', 'postgres', database.config)
  await connection('Warehouse', 'duckdb', { path: join(folder, 'w.duckdb') })
}, 60_000)
afterAll(async () => {
  await server?.kill()
  await database?.close()
  rmSync(folder, { recursive: true, force: true })
})

const tide = (args: string[], environment: Record<string, string> = {}) => {
  const { status, stdout, stderr } = spawnSync(process.execPath, ['dist/cli/tide.mjs', ...args], {
    encoding: 'utf8',
    env: { ...process.env, TIDE_URL: server.url, ...environment },
  })
  return { code: status, said: stdout + stderr }
}
const write = (text: string) => writeFileSync(file, text)
const DEFINITION = `version: 2
shape: replicate
name: Beds
from: \${SITE}
to: Warehouse
targetSchema: there
patterns:
  - { take: in, like: public.* }
columns:
  - { like: '*.mail', does: { mask: hash } }
`

test('a file is checked, foreseen, put and started; then it is what runs, and a change of it is seen', async () => {
  write(DEFINITION)
  expect(tide(['check', file])).toEqual({ code: 1, said: expect.stringContaining('has no SITE') })
  const here = { SITE: 'Site' }
  expect(tide(['check', file], here)).toEqual({ code: 0, said: expect.stringContaining('could be started') })
  const plan = tide(['foresee', file], here)
  expect(plan).toEqual({ code: 0, said: expect.stringContaining('# Plan of Beds') })
  expect(plan.said).toContain('a keyed hash')
  expect(tide(['put', file], here)).toEqual({ code: 0, said: '“Beds” is made.\n' })
  expect(tide(['put', file], here)).toEqual({ code: 0, said: '“Beds” is so already.\n' })
  expect(tide(['start', 'Beds'])).toEqual({ code: 0, said: '“Beds” is started: 2 tables.\n' })
  await eventually(
    async () => (await call<PipelineStatus[]>(server.url, 'GET', '/pipelines'))[0]!.state === 'Following',
  )
  expect(tide(['status', 'Beds'])).toEqual({ code: 0, said: expect.stringContaining('Beds: Following') })
  const runs = /^\S+ follow going: 0 rows.*\n\S+ copy done: \d+ rows, \d+ bytes in \d+\.\d s.*\n$/
  await eventually(async () => runs.test(tide(['runs', 'Beds']).said))
  expect(tide(['verify', 'Beds'])).toEqual({
    code: 0,
    said: expect.stringMatching(/beds: \d+ rows equal, 0 differ\n.*sheds: 0 rows equal, 0 differ\n$/),
  })
  expect(tide(['pause', 'Beds', '--lane', 'public.barns'])).toEqual({
    code: 1,
    said: '“Beds” has no table public.barns. It has public.beds, public.sheds.\n',
  })
  expect(tide(['pause', 'Beds', '--lane', 'public.sheds'])).toEqual({
    code: 0,
    said: 'public.sheds of “Beds” is told to pause.\n',
  })
  const still = () => tide(['status', 'Beds']).said.includes('2 tables, 1 of them standing still')
  await eventually(async () => still())
  expect(tide(['continue', 'Beds', '--lane', 'public.sheds'])).toEqual({
    code: 0,
    said: 'public.sheds of “Beds” is told to continue.\n',
  })
  await eventually(async () => !still())
  expect(tide(['log', 'Beds', '--text', 'BEDS: 1 rows are EQUAL'])).toEqual({
    code: 0,
    said: expect.stringMatching(/^\S+Z info {4}Beds: Verified .*beds: \d+ rows are equal, none differ\.\n$/),
  })
  expect(tide(['log', '--level', 'loud'])).toEqual({ code: 1, said: expect.stringContaining('level') })
  expect(tide(['rewind', 'Beds'])).toEqual({ code: 1, said: expect.stringContaining('Say where to') })
  expect(tide(['rewind', 'Beds', '--to', '2999-01-01T00:00:00Z'])).toEqual({
    code: 1,
    said: expect.stringContaining('in the future'),
  })
  const client = await database.connect()
  await client.query(`INSERT INTO beds VALUES (2, 'b@example.org')`)
  await client.end()
  const start = await eventually(async () => {
    const [{ id, lanes } = {} as PipelineStatus] = await call<PipelineStatus[]>(
      server.url,
      'GET',
      '/pipelines',
    )
    const { saved } = await call<PositionsAnswer>(server.url, 'GET', `/pipelines/${id}/positions`)
    return lanes[0]!.inserted === 1 && saved.at(-1)!.position
  })
  expect(tide(['rewind', 'Beds', '--to', start])).toEqual({
    code: 0,
    said: expect.stringMatching(/^1 changes of 1 transactions are applied again.*told to rewind\.\n$/s),
  })
  expect(tide(['check', file], here)).toEqual({ code: 0, said: 'It is what the file says.\n' })
  const exported = tide(['export', 'Beds'])
  write(exported.said)
  expect(tide(['check', file])).toEqual({ code: 0, said: 'It is what the file says.\n' })
  write(readFileSync(file, 'utf8').replace('hash', 'nothing'))
  expect(tide(['check', file])).toEqual({ code: 2, said: expect.stringContaining('something else') })
  const foreseen = tide(['foresee', file])
  expect(foreseen).toEqual({ code: 0, said: expect.stringContaining('1 lane is copied again') })
  expect(tide(['put', file])).toEqual({
    code: 1,
    said: expect.stringContaining('is emptied and copied again'),
  })
  expect(tide(['put', file, '--losses'])).toEqual({
    code: 0,
    said: '“Beds” is changed while it runs: 1 lane is copied again, 1 lane is as before.\n',
  })
  expect(tide(['check', file])).toEqual({ code: 0, said: 'It is what the file says.\n' })
})

test.each([
  [
    'a field that is not known',
    DEFINITION.replace('take: in', 'takes: in'),
    /takes is not known in patterns\.0/,
  ],
  [
    'a connection that is not there',
    DEFINITION.replace('Warehouse', 'Nowhere'),
    /to: there is no connection “Nowhere”/,
  ],
  [
    'a pattern that matches nothing',
    DEFINITION.replace('public.*', 'nothing.*').replace('Beds', 'B'),
    /No table is chosen/,
  ],
  ['what is no YAML', `${DEFINITION}x: [`, /cannot be read from line/],
])('%s is refused with its place', (_, text, message) => {
  write(text)
  expect(tide(['check', file], { SITE: 'Site' })).toEqual({ code: 1, said: expect.stringMatching(message) })
})

test('what cannot be reached, and what is not there, is said', () => {
  expect(tide(['status'], { TIDE_URL: 'http://127.0.0.1:1' })).toEqual({
    code: 1,
    said: expect.stringContaining('No server answers at http://127.0.0.1:1'),
  })
  expect(tide(['start', 'Nothing'])).toEqual({
    code: 1,
    said: expect.stringContaining('no pipeline “Nothing”'),
  })
  expect(tide(['fly', 'away'])).toEqual({ code: 1, said: expect.stringContaining('tide check FILE') })
})
