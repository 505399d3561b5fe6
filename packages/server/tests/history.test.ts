/** History tables of real targets: every change once, as the source tells it, whatever happens on the way. */
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { PositionsAnswer } from '@tide/core/api/rewind'
import type { RowTrail } from '@tide/core/api/trail'
import type { PlanAnswer } from '@tide/core/api/plans'
import { join } from 'node:path'
import { eventually } from '../../../e2e/server.ts'
import { call } from '../../stand-ins/src/api-call.ts'
import { openRealSystems, type RealSystems } from './real-systems.ts'

let systems: RealSystems
let url: string
const at = (sql: string) => systems.inPostgres('alder', sql)

beforeAll(async () => {
  systems = await openRealSystems(['alder', 'gathered'])
  ;({ url } = systems)
  await systems.connect('into duckdb', 'duckdb', { path: join(systems.folder, 'gathered.duckdb') })
  await systems.connect('into postgres', 'postgres', { ...systems.postgres.config, database: 'gathered' })
  await systems.connect('into mariadb', 'mariadb', systems.mariadb.config)
  await at('CREATE SCHEMA site')
}, 120_000)
afterAll(() => systems?.close())

describe.each(['into duckdb', 'into postgres', 'into mariadb'])('%s', to => {
  const name = to.split(' ')[1]!
  const table = `site.beds_${name}`
  const history = `from_${name}.beds_${name}_history`
  let id: string
  const definition = () => ({
    version: 2,
    shape: 'replicate',
    name: `beds ${to}`,
    from: systems.ids.alder,
    to: systems.ids[to],
    targetSchema: `from_${name}`,
    tables: [{ namespace: 'site', name: `beds_${name}` }],
    history: true,
    columns: [{ like: '*.mail', does: { mask: 'hash' } }],
  })
  const status = () => call<PipelineStatus>(url, 'GET', `/pipelines/${id}`)
  const caughtUp = async (changes: number) => {
    await eventually(async () => {
      const { reason, backlog, state, landed } = await status()
      if (reason) throw new Error(`${reason.message} ${reason.remedy}`)
      return state === 'Following' && backlog === 0 && landed >= changes
    }, 30)
  }
  const kept = (columns: string) =>
    systems.ask(to, `SELECT ${columns} FROM ${history} ORDER BY committed_at, position, number`)

  test('each change is kept once, with what was before, and no clear mail', async () => {
    await at(`CREATE TABLE ${table} (id int PRIMARY KEY, n int, price numeric, note text, mail text);
      ALTER TABLE ${table} REPLICA IDENTITY FULL;
      INSERT INTO ${table} VALUES (1, 1, 1, 'copied', 'one@example.org')`)
    ;({ id } = await call<PipelineStatus>(url, 'POST', '/pipelines', definition()))
    const plan = await call<PlanAnswer>(url, 'POST', '/plan', { definition: definition(), fresh: true })
    expect(plan.notes.map(({ message }) => message).join()).toMatch(/kept in a history table/)
    await call(url, 'POST', `/pipelines/${id}/start`)
    await caughtUp(0)
    await at(`BEGIN; INSERT INTO ${table} VALUES (2, 2, 2.50, repeat('long ', 2000), 'two@example.org');
      UPDATE ${table} SET n = 20 WHERE id = 2; UPDATE ${table} SET n = 200 WHERE id = 2; COMMIT`)
    await at(`UPDATE ${table} SET note = NULL WHERE id = 1`)
    await at(`UPDATE ${table} SET id = 3 WHERE id = 1`)
    await at(`DELETE FROM ${table} WHERE id = 3`)
    await caughtUp(6)
    expect(
      await kept(
        'operation, number, before_id, after_id, before_n, after_n, before_note, length(after_note), not_told',
      ),
    ).toEqual([
      ['insert', '0', null, '2', null, '2', null, '10000', null],
      ['update', '1', '2', '2', '2', '20', expect.any(String), '10000', null],
      ['update', '2', '2', '2', '20', '200', expect.any(String), '10000', null],
      ['update', '0', '1', '1', '1', '1', 'copied', null, null],
      ['update', '0', '1', '3', '1', '1', null, null, null],
      ['delete', '0', '3', null, '1', null, null, null, null],
    ])
    const all = await kept('before_mail, after_mail, transaction_id')
    expect(all[0]![1]).toMatch(/^[0-9a-f]{64}$/)
    expect(JSON.stringify(all)).not.toContain('example.org')
    expect(new Set(all.map(([, , transaction]) => transaction)).size).toBe(4)
  }, 60_000)

  test('the story of a row, by its key: also of one that has moved, and is gone', async () => {
    const trail = (key: string) =>
      call<RowTrail>(
        url,
        'GET',
        `/pipelines/${id}/lanes/0/trail?${new URLSearchParams({ key: JSON.stringify([key]) })}`,
      )
    expect(await trail('2')).toMatchObject({
      kept: true,
      cut: false,
      held: [],
      changes: [
        { operation: 'update', fields: [{ name: 'n', before: '20', after: '200', told: true }] },
        { operation: 'update', fields: [{ name: 'n', before: '2', after: '20', told: true }] },
        { operation: 'insert', keyBefore: null, keyAfter: ['2'] },
      ],
    })
    expect((await trail('3')).changes).toMatchObject([
      { operation: 'delete', keyAfter: null },
      { operation: 'update', keyBefore: ['1'], keyAfter: ['3'] },
    ])
    expect((await trail('77')).changes).toEqual([])
    await expect(
      call(url, 'GET', `/pipelines/${id}/lanes/0/trail?key=${encodeURIComponent('["1","2"]')}`),
    ).rejects.toThrow(/no such row/)
  })

  test('going back does not double it, and what the table would not take is kept all the same', async () => {
    const rows = async () => Number((await systems.ask(to, `SELECT count(*) FROM ${history}`))[0]![0])
    const before = await rows()
    // Where it stood when it was started.
    const { saved } = await call<PositionsAnswer>(url, 'GET', `/pipelines/${id}/positions`)
    const position = saved.find(({ kind }) => kind === 'start')!.position
    await call(url, 'POST', `/pipelines/${id}/rewind`, { position })
    await eventually(async () => (await status()).consistent, 20)
    // NaN is no decimal of two of the targets.
    await at(`INSERT INTO ${table} VALUES (4, 4, 'NaN', 'odd', NULL)`)
    await at(`INSERT INTO ${table} VALUES (5, 5, 5, 'even', NULL)`)
    await eventually(async () => (await rows()) >= before + 2, 20)
    await call(url, 'POST', `/pipelines/${id}/rewind`, { position })
    await at(`TRUNCATE ${table}`)
    await eventually(async () => (await rows()) >= before + 3, 20)
    await eventually(async () => (await status()).backlog === 0, 20)
    expect(await rows()).toBe(before + 3)
    expect((await kept('operation, after_price')).slice(before)).toEqual([
      ['insert', 'NaN'],
      ['insert', '5'],
      ['truncate', null],
    ])
  }, 60_000)

  test('a start again goes on in the same table; a column that comes gets its place there', async () => {
    const rows = async () => Number((await systems.ask(to, `SELECT count(*) FROM ${history}`))[0]![0])
    const before = await rows()
    await call(url, 'POST', `/pipelines/${id}/stop`)
    await eventually(async () => (await status()).state === 'Stopped', 20)
    await at(`ALTER TABLE ${table} ADD COLUMN area int`)
    await call(url, 'POST', `/pipelines/${id}/start`, {})
    await eventually(async () => (await status()).state === 'Following', 30)
    await at(`INSERT INTO ${table} VALUES (9, 9, 9, 'nine', NULL, 99)`)
    await eventually(async () => (await rows()) === before + 1, 20)
    expect((await kept('operation, after_id, after_area')).at(-1)).toEqual(['insert', '9', '99'])
  }, 60_000)
})

test('only changes of rows that take part are kept; a name that is taken is refused', async () => {
  await at(
    `CREATE TABLE site.few (id int PRIMARY KEY, open bool, note text); ALTER TABLE site.few REPLICA IDENTITY FULL`,
  )
  await systems.inPostgres('gathered', 'CREATE SCHEMA few; CREATE TABLE few.few_history (mine int)')
  const definition = {
    version: 2,
    shape: 'replicate',
    name: 'few',
    from: systems.ids.alder,
    to: systems.ids['into postgres'],
    targetSchema: 'few',
    tables: [{ namespace: 'site', name: 'few' }],
    lanes: [{ like: 'site.*', does: { history: true } }],
    scopes: [{ like: '*', where: { all: [{ column: 'open', op: 'equals', value: 't' }] } }],
  }
  const plan = () => call<PlanAnswer>(url, 'POST', '/plan', { definition, fresh: true })
  expect((await plan()).notes.map(({ message }) => message)).toContainEqual(
    'few.few_history cannot be the history of site.few: it is there already, and not of this pipeline.',
  )
  await systems.inPostgres('gathered', 'DROP TABLE few.few_history')
  const { id } = await call<PipelineStatus>(url, 'POST', '/pipelines', definition)
  await call(url, 'POST', `/pipelines/${id}/start`, {})
  const status = () => call<PipelineStatus>(url, 'GET', `/pipelines/${id}`)
  await eventually(async () => (await status()).state === 'Following', 30)
  await at(`INSERT INTO site.few VALUES (1, false, 'hidden')`)
  await at(`UPDATE site.few SET note = 'hidden still' WHERE id = 1`)
  await at(`UPDATE site.few SET open = true, note = 'seen' WHERE id = 1`)
  await at(`UPDATE site.few SET open = false, note = 'hidden again' WHERE id = 1`)
  await at(`DELETE FROM site.few`)
  await at(`INSERT INTO site.few VALUES (2, true, 'last')`)
  const kept = () =>
    systems.ask(
      'into postgres',
      'SELECT operation, before_note, after_note FROM few.few_history ORDER BY committed_at',
    )
  await eventually(async () => (await kept()).length === 3, 20)
  expect(await kept()).toEqual([
    ['into scope', null, 'seen'],
    ['out of scope', 'seen', null],
    ['insert', null, 'last'],
  ])
}, 60_000)
