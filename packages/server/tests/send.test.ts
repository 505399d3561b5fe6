/** Into an app, through the API as people use it; what came of it is read from the app's own records. */
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import type { HandEdits, SaidByHand, SendForeseen, SendResult, SendRow } from '@tide/core/api/send'
import type { SendLook } from '@tide/core/api/send-look'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { SavedQueryInfo } from '@tide/core/api/queries'
import type { Errand } from '@tide/core/definition/errand'
import type { SendDefinition } from '@tide/core/definition/send'
import fc from 'fast-check'
import type { Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import { join } from 'node:path'
import { eventually } from '../../../e2e/server.ts'
import { call } from '../../stand-ins/src/api-call.ts'
import { StandInApp } from '../../stand-ins/src/apps/app.ts'
import { clubgateApp } from '../../stand-ins/src/apps/clubgate.ts'
import { NO_APP_FAULTS } from '../../stand-ins/src/apps/faults.ts'
import { Records } from '../../stand-ins/src/apps/records.ts'
import { openRealSystems, type RealSystems } from './real-systems.ts'

let systems: RealSystems
let url: string
let app: StandInApp
let listening: Server
let definition: SendDefinition
let id: string

const [ORGANISATIONS] = clubgateApp.objects as [(typeof clubgateApp.objects)[0]]
const organisations = () =>
  new Map(app.records.of('organisations').map(record => [record.club_number, record]))

beforeAll(async () => {
  systems = await openRealSystems(['office'])
  ;({ url } = systems)
  app = new StandInApp(
    clubgateApp,
    new Records(clubgateApp, join(systems.folder, 'clubgate.jsonl'), records => {
      for (let n = 1; n <= 3; n++)
        records.create(ORGANISATIONS, { name: `Club ${n}`, club_number: `GC-${n}`, note: 'by hand' })
    }),
  )
  app.perMinute = 0
  let server = ''
  listening = app.api(() => server).listen(0, '127.0.0.1')
  await new Promise(resolve => listening.once('listening', resolve))
  server = `http://127.0.0.1:${(listening.address() as AddressInfo).port}`
  await systems.connect('clubgate', 'clubgate', { server, token: clubgateApp.token })
  await systems.inPostgres(
    'office',
    `CREATE TABLE clubs (number text PRIMARY KEY, name text, email text, orders int, spent numeric(10,2), tier text);
     INSERT INTO clubs SELECT 'GC-' || i, 'Club ' || i, 'club' || i || '@example.org', i, i * 1.5, 'bloom' FROM generate_series(1, 250) i`,
  )
  definition = {
    version: 2,
    shape: 'send',
    name: 'Clubs',
    from: systems.ids.office!,
    to: systems.ids.clubgate!,
    what: { table: { namespace: 'public', name: 'clubs' } },
    key: ['number'],
    object: 'organisations',
    meets: [{ column: 'number', field: 'club_number', alike: 'but for case and spaces' }],
    may: 'make identical',
    fields: [
      { field: 'name', from: { column: 'name' } },
      { field: 'club_number', from: { column: 'number' } },
      { field: 'email', from: { column: 'email' }, empty: 'clear' },
      { field: 'orders_this_year', from: { column: 'orders' } },
      { field: 'spent_this_year', from: { expression: 'orNull(spent * decimal("2"))' } },
      { field: 'tier', from: { column: 'tier' } },
      { field: 'note', from: { template: 'Ordered {orders} times' }, once: true },
    ],
  }
}, 120_000)
afterAll(async () => {
  listening?.closeAllConnections()
  listening?.close()
  await systems?.close()
})

const status = () => call<PipelineStatus>(url, 'GET', `/pipelines/${id}`)
const foresee = (more: Partial<SendDefinition> = {}) =>
  call<SendForeseen>(url, 'POST', '/sends/foresee', {
    definition: { ...definition, ...more },
    ...(id ? { pipeline: id } : {}),
  })
const look = (more: Partial<SendDefinition> = {}) =>
  call<SendLook>(url, 'POST', '/sends/look', { definition: { ...definition, ...more } })
const refused = () => call<SendRow[]>(url, 'GET', `/pipelines/${id}/refused`)

/** Asks for a run, and waits for its end. */
async function send(deed: object = { deed: 'run' }): Promise<Errand> {
  const { errand } = await call<{ errand: string }>(url, 'POST', `/pipelines/${id}/send`, deed)
  let over: Errand | undefined
  await eventually(async () => {
    const errands = await call<Errand[]>(url, 'GET', `/pipelines/${id}/errands`)
    over = errands.find(one => one.id === errand && one.endedAt !== null)
    const { state, reason } = await status()
    if (state === 'Stopped') throw new Error(reason?.message)
    return over !== undefined && state === 'Waiting'
  }, 60)
  return over!
}

test('the setup says what stands in the way, each with its remedy', async () => {
  const messages = async (more: Partial<SendDefinition>) =>
    (await look(more)).notes.filter(({ level }) => level !== 'loss').map(({ message }) => message)
  expect(await messages({})).toEqual([])
  expect(await messages({ object: 'clubs' })).toEqual(['Clubgate has no object “clubs” any more.'])
  expect(await messages({ key: ['no'] })).toContain('The row key’s column “no” is not among the columns.')
  expect(await messages({ meets: [{ column: 'number', field: 'nothing', alike: 'exactly' }] })).toContain(
    'Organisations have no field “nothing” to meet by.',
  )
  expect(await messages({ fields: [{ field: 'contacts', from: { column: 'orders' } }] })).toEqual(
    expect.arrayContaining([
      'The app lets nobody write “contacts”.',
      '“name” is required, and nothing is sent to it.',
    ]),
  )
  expect(
    await messages({
      fields: [
        ...definition.fields.slice(0, 1),
        { field: 'note', from: { template: '{nothing}' } },
        { field: 'joined_on', from: { column: 'orders' } },
        { field: 'tier', from: { expression: 'nothing + 1' } },
      ],
    }),
  ).toEqual(
    expect.arrayContaining([
      'The template of “note” names the column “nothing”, which is not there.',
      '“joined_on” takes date; the column is int32.',
      expect.stringMatching(/^The expression of “tier”: /),
    ]),
  )
  const { proposed } = await look({ fields: [], meets: [] })
  expect(proposed.fields.map(({ field }) => field)).toEqual(['name', 'email', 'tier'])
  await expect(foresee({ key: ['tier'] })).rejects.toThrow('does not tell rows apart: 250 rows have bloom')
})

test('before anything is sent: what would be created, changed, and how rows meet', async () => {
  const foreseen = await foresee()
  expect(foreseen.counts).toEqual({ create: 247, change: 3, remove: 0, unchanged: 0, held: 0, left: 0 })
  expect(foreseen.meets).toEqual({ none: 247, one: 3, several: 0 })
  expect(foreseen.total).toBe(250)
  expect(app.records.of('organisations')).toHaveLength(3)
})

test('one record is tried, and taken back', async () => {
  const made = await call<PipelineStatus>(url, 'POST', '/pipelines', definition)
  id = made.id
  await call(url, 'POST', `/pipelines/${id}/start`)
  await eventually(async () => (await status()).state === 'Waiting', 30)
  await send({ deed: 'try', keys: [['GC-9']] })
  expect(organisations().get('GC-9')).toMatchObject({
    name: 'Club 9',
    orders_this_year: 9,
    spent_this_year: 27,
    note: 'Ordered 9 times',
  })
  expect(app.records.of('organisations')).toHaveLength(4)
  expect(await send({ deed: 'undo' })).toMatchObject({ state: 'done' })
  expect(organisations().has('GC-9')).toBe(false)
  expect((await status()).send).toMatchObject({ sent: 0 })
})

test('the first run meets what is there, and creates the rest; the next one has nothing to do', async () => {
  await send()
  expect(organisations().size).toBe(250)
  expect(organisations().get('GC-2')).toMatchObject({ orders_this_year: 2, note: 'by hand' })
  const calls = app.calls.length
  const { outcome } = await send()
  expect(outcome).toBe('0 created, 0 changed, 0 removed, 0 refused, 250 as they were.')
  expect(app.calls.slice(calls).filter(({ method }) => method !== 'GET')).toEqual([])
}, 60_000)

test('only what differs is sent: changed fields, new rows, gone ones', async () => {
  await systems.inPostgres(
    'office',
    `UPDATE clubs SET orders = 1000, email = NULL WHERE number = 'GC-7'; DELETE FROM clubs WHERE number = 'GC-8'; INSERT INTO clubs VALUES ('GC-300', 'Late Club', NULL, 1, 1, 'seed')`,
  )
  const { outcome } = await send()
  expect(outcome).toBe('1 created, 1 changed, 1 removed, 0 refused, 248 as they were.')
  expect(organisations().get('GC-7')).toMatchObject({ orders_this_year: 1000, email: null })
  expect(organisations().has('GC-8')).toBe(false)
  const [result] = await call<SendResult[]>(url, 'GET', `/pipelines/${id}/results?find=GC-7`)
  expect(result).toMatchObject({
    op: 'change',
    was: { orders_this_year: '7', email: 'club7@example.org' },
    values: { orders_this_year: '1000', email: null },
    refused: null,
  })
  const file = await (await fetch(`${url}/api/pipelines/${id}/results/file`)).text()
  expect(file.split('\n')[0]).toBe('at,run,what,key,id,before,sent,refused field,refused reason,note')
  expect(file).toContain(',change,GC-7,')
})

test('what others change in the app is told, and sent again when somebody wants it', async () => {
  const record = organisations().get('GC-20')!
  app.records.change(ORGANISATIONS, record.id, { orders_this_year: 3, note: 'edited by hand' })
  app.records.remove(ORGANISATIONS, organisations().get('GC-21')!.id)
  const edits = await call<HandEdits>(url, 'GET', `/pipelines/${id}/hands`)
  expect(edits).toMatchObject({ looked: 249, edited: 1, gone: 1 })
  expect(edits.rows).toMatchObject([
    {
      key: ['GC-20'],
      was: { orders_this_year: '3', note: 'edited by hand' },
      values: { orders_this_year: '20' },
    },
    { key: ['GC-21'], op: 'create' },
  ])
  await send({ deed: 'again', keys: [['GC-20']] })
  expect(organisations().get('GC-20')).toMatchObject({ orders_this_year: 20, note: 'edited by hand' })
  // What is gone is found out when it is to be changed, and made anew by the next run.
  await send({ deed: 'again', keys: [['GC-21']] })
  await send()
  expect(organisations().get('GC-21')).toMatchObject({ name: 'Club 21' })
  expect(await refused()).toEqual([])
})

test('what the app or its fields will not have is held with the reason, and goes when it is corrected', async () => {
  await systems.inPostgres(
    'office',
    `UPDATE clubs SET email = 'no address' WHERE number = 'GC-10'; UPDATE clubs SET number = 'GC-11' || repeat('x', 30) WHERE number = 'GC-11'`,
  )
  app.records.locked.add('tier')
  await systems.inPostgres('office', `UPDATE clubs SET tier = 'evergreen' WHERE number = 'GC-12'`)
  const before = await call<SendForeseen>(url, 'GET', `/pipelines/${id}/differences`)
  expect(before.reasons.map(({ field, rows }) => [field, rows])).toEqual(
    expect.arrayContaining([
      ['email', 1],
      ['club_number', 1],
    ]),
  )
  await send()
  expect(await refused()).toMatchObject([
    { key: ['GC-12'], field: 'tier', reason: 'Tier cannot be written.' },
  ])
  expect(organisations().get('GC-10')).toMatchObject({ email: 'club10@example.org' })
  // It is not asked again before the row changes, or somebody wants it.
  const calls = app.calls.length
  await send()
  expect(app.calls.slice(calls).filter(({ method }) => method !== 'GET')).toEqual([])
  app.records.locked.clear()
  await send({ deed: 'again', keys: [['GC-12']] })
  expect(organisations().get('GC-12')).toMatchObject({ tier: 'evergreen' })
  expect(await refused()).toEqual([])
  await systems.inPostgres('office', `UPDATE clubs SET email = 'right@example.org' WHERE number = 'GC-10'`)
  await send()
  expect(organisations().get('GC-10')).toMatchObject({ email: 'right@example.org' })
})

test('a row is corrected by hand, or left out with a note, until it says something else', async () => {
  const byHand = () => call<SaidByHand[]>(url, 'GET', `/pipelines/${id}/by-hand`)
  await systems.inPostgres(
    'office',
    `UPDATE clubs SET email = 'nowhere', orders = 77 WHERE number IN ('GC-30', 'GC-31', 'GC-32')`,
  )
  await expect(send({ deed: 'correct', keys: [['GC-30']], values: { none: 'x' } })).rejects.toThrow(
    'sends no field “none”',
  )
  await expect(send({ deed: 'leave out', keys: [['GC-31']] })).rejects.toThrow('or why')
  await send({ deed: 'correct', keys: [['GC-30']], values: { email: 'thirty@example.org' } })
  expect(organisations().get('GC-30')).toMatchObject({ email: 'thirty@example.org', orders_this_year: 77 })
  // A correction that does not fit is held, too, with its own reason.
  await send({ deed: 'correct', keys: [['GC-32']], values: { email: 'nor here' } })
  expect(organisations().get('GC-32')).toMatchObject({ orders_this_year: 32 })
  await send({ deed: 'leave out', keys: [['GC-31']], note: 'closed in spring' })
  await expect(send({ deed: 'leave out', keys: [['NO-1']], note: 'x' })).resolves.toMatchObject({
    state: 'refused',
    outcome: expect.stringContaining('has no row NO-1'),
  })
  // Corrected, left out, held: a run has nothing to do with any of them, and forgets nothing.
  expect((await send()).outcome).toMatch(/^0 created, 0 changed, 0 removed, 0 refused/)
  expect((await foresee()).counts).toMatchObject({ create: 0, change: 0, left: 1 })
  expect(await byHand()).toMatchObject([
    { key: ['GC-31'], values: null, note: 'closed in spring' },
    { key: ['GC-32'], values: { email: 'nor here' } },
    { key: ['GC-30'], values: { email: 'thirty@example.org' } },
  ])
  const [story] = await call<SendResult[]>(url, 'GET', `/pipelines/${id}/results?find=GC-31`)
  expect(story).toMatchObject({ op: 'leave out', note: 'closed in spring', refused: null })
  await systems.inPostgres(
    'office',
    `UPDATE clubs SET email = 'again@example.org' WHERE number IN ('GC-30', 'GC-31', 'GC-32')`,
  )
  await send()
  for (const number of ['GC-30', 'GC-31', 'GC-32'])
    expect(organisations().get(number)).toMatchObject({ email: 'again@example.org', orders_this_year: 77 })
  expect(await byHand()).toEqual([])
})

test('a run that would do too much asks, and passes once', async () => {
  await systems.inPostgres('office', `DELETE FROM clubs WHERE number > 'GC-2'`)
  const over = await send()
  expect(over).toMatchObject({
    state: 'refused',
    outcome: expect.stringMatching(/^The run would remove \d+ of/),
  })
  expect(organisations().size).toBeGreaterThan(240)
  const { asks } = (await status()).send!
  const { create, change, remove } = asks!
  await send({ deed: 'pass', most: { create, change, remove } })
  expect(organisations().size).toBeLessThan(140)
})

test('whatever is lost on the way, nothing is made twice', async () => {
  await systems.inPostgres(
    'office',
    `INSERT INTO clubs SELECT 'NC-' || i, 'New ' || i, NULL, i, i, 'seed' FROM generate_series(1, 90) i`,
  )
  app.faults = { ...NO_APP_FAULTS, lost: 0.4, failing: 0.2, busy: 0.2 }
  await send()
  app.faults = { ...NO_APP_FAULTS }
  await send()
  const made = app.records
    .of('organisations')
    .filter(({ club_number }) => String(club_number).startsWith('NC-'))
  expect(new Set(made.map(({ club_number }) => club_number)).size).toBe(90)
  expect(made).toHaveLength(90)
  expect((await foresee()).counts).toMatchObject({ create: 0, change: 0, remove: 0 })
}, 120_000)

test('paused, stopped and started again, it remembers what it has sent', async () => {
  const act = (deed: string) => call<PipelineStatus>(url, 'POST', `/pipelines/${id}/${deed}`)
  const stands = (state: string) => eventually(async () => (await status()).state === state, 30)
  await act('pause')
  await stands('Paused')
  await expect(send()).rejects.toThrow('is paused')
  await act('continue')
  await stands('Waiting')
  await act('stop')
  await stands('Stopped')
  await call(url, 'PUT', `/pipelines/${id}`, { ...definition, may: 'create and change' })
  await act('start')
  await stands('Waiting')
  const { outcome } = await send()
  expect(outcome).toMatch(/^0 created, 0 changed, 0 removed, 0 refused/)
  // By another key nothing is known to be sent, and all is met anew.
  const byName = { ...definition, key: ['name', 'number'], may: 'create and change' as const }
  expect((await foresee(byName)).meets).toMatchObject({ none: 0 })
  expect((await foresee({ may: 'create and change' })).meets).toBeNull()
})

test('a token that is over stops it with the reason; continued, it goes on, and nothing is twice', async () => {
  await systems.inPostgres(
    'office',
    `INSERT INTO clubs SELECT 'TC-' || i, 'Later ' || i, NULL, i, i, 'seed' FROM generate_series(1, 30) i`,
  )
  app.faults = { ...NO_APP_FAULTS, expired: true }
  await call(url, 'POST', `/pipelines/${id}/send`, { deed: 'run' })
  await eventually(async () => (await status()).state === 'Stopped', 30)
  expect((await status()).reason?.message).toMatch(/^Clubgate does not let us/)
  app.faults = { ...NO_APP_FAULTS }
  await call(url, 'POST', `/pipelines/${id}/continue`)
  const later = () => app.records.of('organisations').filter(({ name }) => String(name).startsWith('Later '))
  await eventually(async () => later().length === 30 && (await status()).state === 'Waiting', 30)
  expect((await foresee({ may: 'create and change' })).counts).toMatchObject({ create: 0, change: 0 })
  expect(later()).toHaveLength(30)
})

test('a saved query is sent like a table, keeps its versions, and stays while it is used', async () => {
  const saved = await call<SavedQueryInfo>(url, 'POST', '/queries', {
    name: 'Evergreens',
    connection: systems.ids.office,
    sql: `SELECT number, name FROM clubs WHERE tier = 'evergreen'`,
    key: ['number'],
  })
  const check = { name: 'x', connection: systems.ids.office, sql: saved.sql, key: ['number'] }
  expect(await call(url, 'POST', '/queries/check-key', check)).toMatchObject({ keyless: 0, doubled: 0 })
  const query = {
    name: 'Evergreens',
    what: { query: saved.id },
    fields: definition.fields.slice(0, 2),
    may: 'change' as const,
  }
  expect((await foresee(query)).total).toBeGreaterThan(0)
  const other = await call<PipelineStatus>(url, 'POST', '/pipelines', { ...definition, ...query })
  await expect(call(url, 'DELETE', `/queries/${saved.id}`)).rejects.toThrow('is sent by “Evergreens”')
  await call(url, 'DELETE', `/pipelines/${other.id}`)
  const put = { name: 'Evergreens', connection: systems.ids.office, sql: 'SELECT 1 AS number', key: [] }
  expect(await call(url, 'PUT', `/queries/${saved.id}`, put)).toMatchObject({ version: 2 })
  await call(url, 'DELETE', `/queries/${saved.id}`)
})

test('parameters of a saved query: a preset, a value of the pipeline’s own, and texts that stay texts', async () => {
  const saved = await call<SavedQueryInfo>(url, 'POST', '/queries', {
    name: 'Clubs of a tier',
    connection: systems.ids.office,
    sql: `SELECT number, name FROM clubs WHERE tier = {tier} AND orders >= {least} -- {nothing}`,
    key: ['number'],
    parameters: [
      { name: 'tier', type: 'text', preset: 'seed' },
      { name: 'least', type: 'number', preset: '0' },
    ],
  })
  const total = async (values?: Record<string, string>) =>
    (
      await foresee({
        what: { query: saved.id, ...(values ? { values } : {}) },
        fields: definition.fields.slice(0, 2),
      })
    ).total
  expect(await total()).toBe(120)
  expect(await total({ least: '81' })).toBe(10)
  expect(await total({ tier: `seed' OR 'a' = 'a` })).toBe(0)
  await expect(total({ least: '1 OR 1 = 1' })).rejects.toThrow('“least” is to be a number')
  await call(url, 'DELETE', `/queries/${saved.id}`)
  // Held by the systems' own SQL against what was meant, byte by byte.
  await systems.connect('site', 'mariadb', { ...systems.mariadb.config, database: 'mysql' })
  const texts = fc.sample(
    fc.array(fc.constantFrom(`'`, `"`, '\\', '`', '{t}', '--', '#', '/*', '$$', ';', 'é', '🌱', '\n', '%'), {
      maxLength: 6,
    }),
    40,
  )
  for (const [connection, hex] of [
    ['office', `encode(convert_to({t}, 'UTF8'), 'hex')`],
    ['site', 'lower(hex(convert({t} USING utf8mb4)))'],
  ] as const)
    for (const text of texts.map(parts => parts.join(''))) {
      const { rows } = await call<{ rows: string[][] }>(url, 'POST', '/query', {
        connection: systems.ids[connection],
        sql: `SELECT ${hex} AS h`,
        parameters: [{ name: 't', type: 'text', preset: text }],
      })
      expect([connection, rows[0]![0]]).toEqual([connection, Buffer.from(text).toString('hex')])
    }
}, 60_000)

test('a table at the source says what was sent and what was refused, each result once', async () => {
  const act = (deed: string) => call<PipelineStatus>(url, 'POST', `/pipelines/${id}/${deed}`)
  const stands = (state: string) => eventually(async () => (await status()).state === state, 30)
  const again = async (log: object | undefined) => {
    await act('stop')
    await stands('Stopped')
    await call(url, 'PUT', `/pipelines/${id}`, { ...definition, ...(log ? { log } : {}) })
    await act('start')
  }
  await systems.inPostgres('office', 'CREATE SCHEMA theirs; CREATE TABLE theirs.clubs (n int)')
  await again({ namespace: 'theirs', name: 'clubs' })
  await stands('Stopped')
  expect((await status()).reason?.message).toBe('theirs.clubs is there already, and is not this pipeline’s.')
  await again({ namespace: 'sent', name: 'clubs' })
  await stands('Waiting')
  const logged = (sql: string) => systems.ask('office', sql)
  const kept = async () =>
    (await call<string>(url, 'GET', `/pipelines/${id}/results?find=`)) as unknown as SendResult[]
  await systems.inPostgres(
    'office',
    `UPDATE clubs SET orders = 4711 WHERE number = 'TC-1'; UPDATE clubs SET name = 'Locked' WHERE number = 'TC-2'`,
  )
  app.records.locked.add('name')
  expect(await send({ deed: 'run' })).toMatchObject({ state: 'done' })
  app.records.locked.clear()
  const last = `FROM sent.clubs WHERE row_key = $$TC-1$$ ORDER BY sent_at DESC LIMIT 1`
  expect(await logged(`SELECT what, (fields_sent::json)->>'orders_this_year' ${last}`)).toEqual([
    ['change', '4711'],
  ])
  expect(
    await logged(
      `SELECT refused_field, what FROM sent.clubs WHERE row_key = 'TC-2' AND refused_field = 'name'`,
    ),
  ).toEqual([['name', 'refused']])
  // What was remembered before is in it, too; a table that somebody drops is made anew with all of it.
  const rows = async () => Number((await logged('SELECT count(*) FROM sent.clubs'))[0]![0])
  const before = await rows()
  expect(before).toBeGreaterThan((await kept()).length / 2)
  await systems.inPostgres('office', 'DROP TABLE sent.clubs')
  await again({ namespace: 'sent', name: 'clubs' })
  await eventually(async () => (await rows().catch(() => 0)) === before, 30)
  await again(undefined)
  await stands('Waiting')
}, 60_000)
