/** Tables of two databases kept in step, through the API; what came of it is read by the databases' own SQL. */
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import { madeJoins, type MadeLook } from '@tide/core/app/made'
import type { PairSeen, TwoWayForeseen, TwoWayLook, UndoForeseen } from '@tide/core/api/two-way'
import type { TwoWayDefinition, TwoWayLane } from '@tide/core/definition/two-way'
import { eventually } from '../../../e2e/server.ts'
import { call } from '../../stand-ins/src/api-call.ts'
import { openRealSystems, type RealSystems } from './real-systems.ts'

let systems: RealSystems
let url: string
let definition: TwoWayDefinition
let id: string

const members: TwoWayLane = {
  a: 'public.members',
  b: 'site.contacts',
  originate: 'both',
  fields: [
    { a: 'name', b: 'full_name', direction: 'both' },
    { a: 'email', b: 'mail', direction: 'both' },
    { a: 'joined', b: 'since', direction: 'both' },
    {
      a: 'active',
      b: 'is_active',
      direction: 'both',
      rule: {
        as: 'mapped',
        map: {
          pairs: [
            { a: 'true', b: '1' },
            { a: 'false', b: '0' },
          ],
          others: 'held',
        },
      },
    },
    { a: 'seen_at', b: 'last_seen', direction: 'both' },
    { a: 'fee', b: 'fee', direction: 'both' },
  ],
  conflict: 'the later',
  tie: 'a',
  first: 'the later',
  pair: [{ fields: [{ a: 'email', b: 'mail', alike: ['case', 'spaces'] }] }],
  links: { a: 'contact', b: 'member' },
  gone: { a: 'delete', b: 'delete' },
}

beforeAll(async () => {
  systems = await openRealSystems(['office'])
  ;({ url } = systems)
  await systems.connect('shop', 'mariadb', { ...systems.mariadb.config })
  await systems.inPostgres(
    'office',
    `CREATE TABLE members (id serial PRIMARY KEY, name text NOT NULL, email text UNIQUE, joined date,
       active boolean NOT NULL DEFAULT true, seen_at timestamptz, fee numeric(8,2), contact text, notes text);
     CREATE TABLE log (at timestamptz, what text);
     CREATE VIEW active_members AS SELECT * FROM members WHERE active;
     INSERT INTO members (name, email, joined, seen_at, fee)
       SELECT 'Member ' || n, 'm' || n || '@example.org', date '2024-01-01' + n, timestamptz '2026-11-30 08:00:00.25+00' + n * interval '1 h', n * 1.10
         FROM generate_series(1, 300) n`,
  )
  await systems.inMariadb(
    `USE site; CREATE TABLE contacts (id int AUTO_INCREMENT PRIMARY KEY, full_name varchar(20) NOT NULL, mail varchar(60) UNIQUE,
       since date, is_active tinyint(1) NOT NULL DEFAULT 1, last_seen datetime(6), fee decimal(8,2), member varchar(20));
     INSERT INTO contacts (full_name, mail) VALUES ('Member seven', 'M7@example.org '), ('New here', 'new@example.org')`,
  )
  definition = {
    version: 2,
    shape: 'two-way',
    name: 'Members',
    from: systems.ids.office!,
    to: systems.ids.shop!,
    every: 1,
    lanes: [members],
  }
}, 120_000)
afterAll(() => systems?.close())

const status = () => call<PipelineStatus>(url, 'GET', `/pipelines/${id}`)
const pairs = (query: string) => call<PairSeen[]>(url, 'GET', `/pipelines/${id}/pairs?${query}`)
const office = (sql: string) => systems.inPostgres('office', sql)
const shop = (sql: string) => systems.inMariadb(`USE site; ${sql}`)

/** What both say of their rows, in one form, by each system's own SQL. */
async function bothSides(): Promise<[string[][], string[][]]> {
  const a = await systems.ask(
    'office',
    `SELECT lower(trim(email)), name, joined::text, CASE WHEN active THEN '1' ELSE '0' END,
            to_char(seen_at AT TIME ZONE 'UTC', 'YYYY-MM-DD HH24:MI:SS.US'), fee::text, id::text, contact
       FROM members ORDER BY 1`,
  )
  const b = await systems.ask(
    'shop',
    `SELECT lower(trim(mail)), full_name, CAST(since AS CHAR), CAST(is_active AS CHAR),
            DATE_FORMAT(last_seen, '%Y-%m-%d %H:%i:%s.%f'), CAST(fee AS CHAR), member, CAST(id AS CHAR)
       FROM site.contacts ORDER BY 1`,
  )
  return [a, b]
}

const agree = () =>
  eventually(async () => {
    const [a, b] = await bothSides()
    return a.length > 0 && JSON.stringify(a) === JSON.stringify(b)
  }, 30)

test('tables are places; those that cannot be written say why', async () => {
  const look = await call<TwoWayLook>(url, 'POST', '/two-way/look', { definition })
  expect(look.notes.filter(({ level }) => level === 'refused')).toEqual([])
  const places = look.objects.a!.map(({ name, can, closed }) => [name, can.change, closed])
  expect(places).toEqual([
    ['public.active_members', false, 'A view takes no records; choose the table that it shows.'],
    ['public.log', false, expect.stringContaining('primary key')],
    ['public.members', true, undefined],
  ])
  const ofView = { ...definition, lanes: [{ ...members, a: 'public.active_members' }] }
  const refused = await call<TwoWayLook>(url, 'POST', '/two-way/look', { definition: ofView })
  expect(refused.notes[0]).toMatchObject({ level: 'refused', remedy: expect.stringContaining('A view') })
  const same = await call<TwoWayLook>(url, 'POST', '/two-way/look', {
    definition: { ...definition, to: definition.from, lanes: [] },
  })
  expect(same.notes[0]).toMatchObject({ level: 'refused', message: expect.stringContaining('journal') })
})

test('a rehearsal writes nothing and leaves nothing at the databases', async () => {
  const foreseen = await call<TwoWayForeseen>(url, 'POST', '/two-way/foresee', { definition })
  expect(foreseen.lanes[0]).toMatchObject({
    records: { a: 300, b: 2 },
    paired: 1,
    created: { a: 1, b: 299 },
  })
  expect(await systems.ask('office', 'SELECT count(*) FROM pg_replication_slots')).toEqual([['0']])
})

test('after the first pass both say the same', async () => {
  ;({ id } = await call<PipelineStatus>(url, 'POST', '/pipelines', definition))
  await call(url, 'POST', `/pipelines/${id}/start`)
  await agree()
  expect(await systems.ask('office', `SELECT name FROM members WHERE email = 'new@example.org'`)).toEqual([
    ['New here'],
  ])
}, 60_000)

test('how a side that is followed tells its changes stays what it is', async () => {
  const other = {
    name: 'office',
    kind: 'postgres',
    config: { ...systems.postgres.config, database: 'office', method: 'triggers' },
  }
  await expect(call(url, 'PUT', `/connections/${systems.ids.office}`, other)).rejects.toThrow(
    /is followed by “Members”/,
  )
})

test('edits of either side come by the journal, whichever type they are of', async () => {
  await office(
    `UPDATE members SET active = false, fee = 12.345, seen_at = '2026-12-01 23:59:59.123456+02' WHERE email = 'm1@example.org';
     UPDATE members SET name = NULLIF('Ü' || chr(92) || '''x', ''), joined = NULL WHERE email = 'm2@example.org'`,
  )
  await shop(
    `UPDATE contacts SET is_active = 0, last_seen = '2026-12-02 00:00:00.000001', since = '2020-02-29' WHERE mail = 'm3@example.org';
     UPDATE contacts SET fee = NULL WHERE mail = 'm2@example.org'`,
  )
  await eventually(async () => {
    const [[row]] = (await systems.ask(
      'office',
      `SELECT active FROM members WHERE email = 'm3@example.org'`,
    )) as [[string]]
    return row === 'f' || row === 'false'
  }, 20)
  await agree()
  // An edit is seen before the time comes at which both sides are looked at anyway.
  const { completeUpTo, lagSeconds } = await status()
  expect(completeUpTo).not.toBeNull()
  expect(lagSeconds).toBeLessThan(20)
}, 60_000)

test('different fields of one row merge; of the same field the later edit stands', async () => {
  await call(url, 'POST', `/pipelines/${id}/pause`)
  await eventually(async () => (await status()).state === 'Paused', 20)
  await office(`UPDATE members SET name = 'Of the office' WHERE email = 'm4@example.org'`)
  await shop(`UPDATE contacts SET fee = 4 WHERE mail = 'm4@example.org'`)
  await office(`UPDATE members SET fee = 55 WHERE email = 'm5@example.org'`)
  await new Promise(resolve => setTimeout(resolve, 1200))
  await shop(`UPDATE contacts SET fee = 66 WHERE mail = 'm5@example.org'`)
  await shop(`UPDATE contacts SET fee = 77 WHERE mail = 'm6@example.org'`)
  await new Promise(resolve => setTimeout(resolve, 1200))
  await office(`UPDATE members SET fee = 88 WHERE email = 'm6@example.org'`)
  await call(url, 'POST', `/pipelines/${id}/continue`)
  await agree()
  expect(
    await systems.ask(
      'office',
      `SELECT name, fee::text FROM members WHERE email IN ('m4@example.org', 'm5@example.org', 'm6@example.org') ORDER BY email`,
    ),
  ).toEqual([
    ['Of the office', '4.00'],
    ['Member 5', '66.00'],
    ['Member 6', '88.00'],
  ])
}, 60_000)

test('what a constraint refuses waits for a person, and goes on when it is corrected', async () => {
  await office(
    `UPDATE members SET name = 'A name that is far too long for the shop' WHERE email = 'm8@example.org'`,
  )
  await eventually(async () => (await pairs('only=held')).length === 1, 20)
  const [held] = await pairs('only=held')
  expect(held!.held[0]).toMatchObject({ join: 'name ↔ full_name', side: 'b' })
  await office(`UPDATE members SET name = 'A short one' WHERE email = 'm8@example.org'`)
  await eventually(async () => (await pairs('only=held')).length === 0, 20)
  await agree()
}, 60_000)

test('a row that is deleted on either side is deleted on the other without a sweep', async () => {
  await office(`DELETE FROM members WHERE email = 'm9@example.org'`)
  await shop(`DELETE FROM contacts WHERE mail = 'm10@example.org'`)
  await eventually(async () => {
    const [a, b] = await bothSides()
    return a.length === 299 && b.length === 299
  }, 20)
  await agree()
}, 60_000)

test('many that are gone at once are asked for first, and nothing is doubled by it', async () => {
  await office(`DELETE FROM members WHERE id BETWEEN 100 AND 199`)
  await eventually(async () => (await status()).state === 'Stopped', 30)
  expect((await status()).reason).toMatchObject({ kind: 'guard' })
  expect((await bothSides())[1]).toHaveLength(299)
  await office(
    `INSERT INTO members (id, name, email) SELECT n, 'Again ' || n, 'm' || n || '@example.org' FROM generate_series(100, 199) n`,
  )
  await call(url, 'POST', `/pipelines/${id}/continue`)
  await agree()
  expect((await bothSides())[0]).toHaveLength(299)
}, 90_000)

test('a span of time is undone: what it wrote is written back, what it made is deleted, what was edited since is left', async () => {
  await agree()
  const from = new Date().toISOString()
  await office(
    `UPDATE members SET name = 'Wrong ' || id, fee = 1 WHERE email IN ('m30@example.org', 'm31@example.org')`,
  )
  await office(`INSERT INTO members (name, email) VALUES ('Made by mistake', 'mistake@example.org')`)
  await agree()
  await eventually(async () => (await status()).twoWay!.doing === null, 10)
  const to = new Date().toISOString()
  await shop(`UPDATE contacts SET full_name = 'Put right' WHERE mail = 'm31@example.org'`)
  await agree()
  const foreseen = await call<UndoForeseen>(
    url,
    'GET',
    `/pipelines/${id}/undone?${new URLSearchParams({ from, to })}`,
  )
  // With them the key of the other half that was made.
  expect(foreseen).toMatchObject({ change: 3, delete: 1 })
  await call(url, 'POST', `/pipelines/${id}/two-way`, { deed: 'undo', of: { from, to } })
  await eventually(
    async () =>
      (
        await systems.ask('shop', `SELECT full_name FROM site.contacts WHERE mail = 'm30@example.org'`)
      )[0]![0] === 'Member 30',
    20,
  )
  expect(
    await systems.ask(
      'shop',
      `SELECT full_name FROM site.contacts WHERE mail IN ('m31@example.org', 'mistake@example.org') ORDER BY mail`,
    ),
  ).toEqual([['Put right']])
  const backwards = call(url, 'GET', `/pipelines/${id}/undone?${new URLSearchParams({ from: 'then', to })}`)
  await expect(backwards).rejects.toThrow(/422|400/)
  await office(`DELETE FROM members WHERE email IN ('mistake@example.org', 'm30@example.org')`)
}, 60_000)

test('whatever was changed while nobody looked is found, and deleting the pipeline leaves nothing at the source', async () => {
  await call(url, 'POST', `/pipelines/${id}/stop`)
  await eventually(async () => (await status()).state === 'Stopped', 30)
  await office(`UPDATE members SET fee = fee + 1; DELETE FROM members WHERE email = 'm20@example.org'`)
  await shop(`INSERT INTO contacts (full_name, mail) VALUES ('Late', 'late@example.org')`)
  await call(url, 'POST', `/pipelines/${id}/start`)
  await agree()
  expect((await bothSides())[0]).toHaveLength(298)
  await call(url, 'POST', `/pipelines/${id}/stop`)
  await eventually(async () => (await status()).state === 'Stopped', 30)
  await call(url, 'DELETE', `/pipelines/${id}`)
  expect(await systems.ask('office', 'SELECT count(*) FROM pg_replication_slots')).toEqual([['0']])
}, 90_000)

test('a table is made for the records of the other side after a look at how, and is kept in step', async () => {
  const asked = {
    connection: definition.to,
    from: definition.from,
    object: 'public.members',
    wanted: { into: { schema: 'site', table: 'members copy' }, link: 'office key' },
  }
  const newTable = (part: object) => call<MadeLook>(url, 'POST', '/two-way/make', { ...asked, ...part })
  const there = () =>
    systems.ask('shop', `SELECT count(*) FROM information_schema.tables WHERE table_name = 'members copy'`)
  const look = await newTable({ make: false })
  expect(look.calls).toEqual([
    expect.stringMatching(/^CREATE TABLE `site`\.`members copy` \([^;]+AUTO_INCREMENT/),
  ])
  expect(await there()).toEqual([['0']])
  const made = await newTable({ make: true })
  expect(await there()).toEqual([['1']])
  await expect(newTable({ make: true })).rejects.toThrow(/already exists/)
  const { objects } = await call<TwoWayLook>(url, 'POST', '/two-way/look', { definition })
  const object = objects.a!.find(({ name }) => name === 'public.members')!
  const lane: TwoWayLane = {
    a: 'public.members',
    b: made.place,
    originate: 'both',
    fields: madeJoins(made, object, 'b'),
    conflict: 'the later',
    tie: 'a',
    first: 'a',
    links: { b: made.link! },
  }
  const copied = { ...definition, name: 'A copy of the members', lanes: [lane] }
  const { notes } = await call<TwoWayLook>(url, 'POST', '/two-way/look', { definition: copied })
  expect(notes.filter(({ level }) => level === 'refused')).toEqual([])
  const { id: copy } = await call<PipelineStatus>(url, 'POST', '/pipelines', copied)
  await call(url, 'POST', `/pipelines/${copy}/start`)
  const [[members]] = (await systems.ask('office', 'SELECT count(*) FROM members')) as [[string]]
  const rows = () => systems.ask('shop', 'SELECT count(*) FROM site.`members copy`')
  await eventually(async () => (await rows())[0]?.[0] === members, 40)
  const [[email]] = (await systems.ask('office', 'SELECT email FROM members ORDER BY id LIMIT 1')) as [
    [string],
  ]
  await shop(`UPDATE \`members copy\` SET name = 'From the copy' WHERE email = '${email}'`)
  await shop(
    "INSERT INTO `members copy` (name, email, fee, active) VALUES ('Only there', 'only@example.org', 2.50, 1)",
  )
  const said = () =>
    systems.ask(
      'office',
      `SELECT name FROM members WHERE email IN ('${email}', 'only@example.org') ORDER BY 1`,
    )
  await eventually(async () => JSON.stringify(await said()) === '[["From the copy"],["Only there"]]', 30)
  // The other way round.
  await call(url, 'POST', '/two-way/make', {
    connection: definition.from,
    from: definition.to,
    object: 'site.contacts',
    wanted: { into: { schema: 'public', table: 'contacts_copy' }, link: 'Shop key' },
    make: true,
  })
  // Two columns more, for two fields of the other side; names that are taken are not taken twice.
  const more = await call<MadeLook>(url, 'POST', '/two-way/make', {
    connection: definition.from,
    from: definition.to,
    object: 'site.contacts',
    wanted: { into: { place: 'public.contacts_copy' }, fields: ['full_name', 'since'], link: null },
    make: true,
  })
  expect([more.place, more.link, more.joins]).toEqual([
    'public.contacts_copy',
    null,
    [
      { field: 'full_name', column: 'full_name_2' },
      { field: 'since', column: 'since_2' },
    ],
  ])
  const columns = await systems.ask(
    'office',
    `SELECT column_name, data_type, is_identity FROM information_schema.columns WHERE table_name = 'contacts_copy' ORDER BY ordinal_position`,
  )
  expect(columns.slice(0, 3)).toEqual([
    ['id', 'bigint', 'YES'],
    ['shop_key', 'text', 'NO'],
    ['full_name', 'text', 'NO'],
  ])
}, 120_000)
