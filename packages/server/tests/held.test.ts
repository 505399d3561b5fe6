/** Rows that real targets will not take: all others land, and what is held lands whole once it is corrected or fits. */
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type { ErrandOutcome } from '@tide/core/api/errand'
import type { HeldAnswer, HeldOverview } from '@tide/core/api/held'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import { datasetId } from '@tide/core/records/dataset'
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

const TARGETS = [
  {
    to: 'into duckdb',
    /** DuckDB's years end before PostgreSQL's. */
    bad: `'294270-01-01'`,
    prepare: async () => {},
    mended: '2026-03-01',
  },
  {
    to: 'into postgres',
    bad: `'2999-01-01'`,
    prepare: (there: string) =>
      systems.inPostgres('gathered', `ALTER TABLE ${there} ADD CHECK (planted < '2900-01-01')`),
    mended: '2026-03-01',
  },
  {
    to: 'into mariadb',
    bad: `'2999-01-01'`,
    prepare: (there: string) => systems.inMariadb(`ALTER TABLE ${there} ADD CHECK (planted < '2900-01-01')`),
    mended: '2026-03-01',
  },
]

describe.each(TARGETS)('$to', ({ to, bad, prepare, mended }) => {
  const name = to.split(' ')[1]!
  const schema = `from_${name}`
  const table = `site.beds_${name}`
  const dataset = { namespace: 'site', name: `beds_${name}` }
  const there = `${schema}.${dataset.name}`
  let id: string
  const status = () => call<PipelineStatus>(url, 'GET', `/pipelines/${id}`)
  const ask = async (sql: string) => (await systems.ask(to, sql)).map(row => row.join(' '))
  const held = () => call<HeldOverview>(url, 'GET', `/pipelines/${id}/held`)
  const records = async () => {
    const { groups } = await held()
    if (groups.length === 0) return []
    const { cause } = groups[0]!
    const query = new URLSearchParams({ table: datasetId(dataset), cause })
    return call<HeldAnswer[]>(url, 'GET', `/pipelines/${id}/held/records?${query}`)
  }
  const settle = (deed: object) => call<ErrandOutcome>(url, 'POST', `/pipelines/${id}/held`, deed)
  const caughtUp = () =>
    eventually(async () => {
      const { reason, backlog, state } = await status()
      if (reason) throw new Error(`${reason.message} ${reason.remedy}`)
      return state === 'Following' && backlog === 0
    }, 30)

  test('of two hundred rows the one that does not fit is held, and its clear mail is nowhere', async () => {
    await at(`CREATE TABLE ${table} (id int PRIMARY KEY, planted timestamp, n int, note text, mail text);
      INSERT INTO ${table} VALUES (0, '2026-01-01', 0, repeat('x', 10), 'zero@example.org')`)
    const definition = {
      version: 2,
      shape: 'replicate',
      name: `beds ${to}`,
      from: systems.ids.alder,
      to: systems.ids[to],
      targetSchema: schema,
      tables: [dataset],
      columns: [{ like: '*.mail', does: { mask: 'hash' } }],
    }
    ;({ id } = await call<PipelineStatus>(url, 'POST', '/pipelines', definition))
    await call(url, 'POST', `/pipelines/${id}/start`)
    await caughtUp()
    await prepare(there)
    // A value of 20,000 random digits lies beside its row, and is not sent with changes of others.
    await at(`INSERT INTO ${table} SELECT i, CASE i WHEN 77 THEN ${bad}::timestamp ELSE '2026-02-01' END, i,
        (SELECT string_agg(md5(random()::text), '') FROM generate_series(1, CASE i WHEN 77 THEN 600 ELSE 1 END)), i || '@example.org'
      FROM generate_series(1, 200) i`)
    await eventually(async () => (await ask(`SELECT count(*) FROM ${there}`))[0] === '200', 30)
    const { groups, rows } = await held()
    expect(rows).toBe(1)
    expect(groups).toMatchObject([
      {
        table: dataset,
        rows: 1,
        records: 1,
        name: `beds ${to}`,
        column: to === 'into duckdb' ? 'planted' : null,
      },
    ])
    const [record] = await records()
    expect(record).toMatchObject({ told: ['77'], op: 'put', behind: 0, source: { id: '77', n: '77' } })
    expect(JSON.stringify(record)).not.toContain('77@example.org')
    expect(record!.shaped!.mail).toMatch(/^[0-9a-f]{64}$/)
    expect((await status()).lanes[0]!.differs).toBe(1)
    expect((await status()).consistent).toBe(false)
  }, 60_000)

  test('later changes wait behind it, also those that do not tell the whole row; corrected, it stands whole', async () => {
    await at(`UPDATE ${table} SET n = 1077 WHERE id = 77; UPDATE ${table} SET n = 1001 WHERE id = 1`)
    await eventually(async () => (await records())[0]?.behind === 1, 20)
    expect(await records()).toMatchObject([{ source: { n: '1077' } }])
    expect(await ask(`SELECT n FROM ${there} WHERE id = 1`)).toEqual(['1001'])
    const [{ id: record } = { id: 0 }] = await records()
    const values = (text: string | null) => ({ deed: 'correct', ids: [record], values: { planted: text } })
    expect(await settle(values(bad.replaceAll("'", '')))).toMatchObject({
      state: 'refused',
      outcome: expect.stringContaining('still does not fit'),
    })
    expect(await settle({ deed: 'correct', ids: [record], values: { nothing: '1' } })).toMatchObject({
      state: 'refused',
      outcome: expect.stringContaining('no column nothing'),
    })
    expect(await settle(values(mended))).toEqual({ state: 'done', outcome: '1 row landed as corrected' })
    const [row] = await ask(
      `SELECT CAST(CAST(planted AS date) AS char(10)), n, length(note) FROM ${there} WHERE id = 77`,
    )
    expect(row).toContain(`${mended} 1077 19200`)
    expect((await held()).rows).toBe(0)
    await eventually(async () => (await status()).consistent, 20)
  }, 60_000)

  test('mended at the source, a row lands by itself; one that is let be is said to differ', async () => {
    await at(`UPDATE ${table} SET planted = ${bad} WHERE id IN (5, 6, 7)`)
    await eventually(async () => (await held()).rows === 3, 20)
    await at(`UPDATE ${table} SET planted = '2026-04-01' WHERE id = 5`)
    await eventually(async () => (await held()).rows === 2, 20)
    expect(await ask(`SELECT CAST(CAST(planted AS date) AS char(10)) FROM ${there} WHERE id = 5`)).toEqual([
      '2026-04-01',
    ])
    // The row is in scope of no cause any more once it is deleted.
    await at(`DELETE FROM ${table} WHERE id = 6`)
    await eventually(async () => (await held()).rows === 1, 20)
    expect(await ask(`SELECT count(*) FROM ${there} WHERE id = 6`)).toEqual(['0'])
    const { groups } = await held()
    const { cause } = groups[0]!
    const all = { table: datasetId(dataset), cause }
    expect((await settle({ deed: 'retry', ...all })).outcome).toContain('still held')
    expect(await settle({ deed: 'drop', ...all, note: 'a test of the pumps' })).toMatchObject({
      state: 'done',
    })
    expect((await held()).rows).toBe(0)
    expect((await status()).lanes[0]!.differs).toBe(1)
    const closed = await call<HeldAnswer[]>(url, 'GET', `/pipelines/${id}/held/records?closed=true`)
    expect(new Set(closed.map(({ state }) => state))).toEqual(new Set(['dropped', 'superseded', 'corrected']))
    await at(`UPDATE ${table} SET planted = '2026-05-01' WHERE id = 7`)
    await eventually(async () => (await status()).consistent, 20)
  }, 60_000)

  test('copied again, the row that does not fit is held, and what did not fit before is forgotten', async () => {
    await at(`UPDATE ${table} SET planted = ${bad} WHERE id = 8`)
    await eventually(async () => (await held()).rows === 1, 20)
    await call(url, 'POST', `/pipelines/${id}/recopy`, {})
    await eventually(async () => {
      const { state, lanes, reason } = await status()
      if (reason) throw new Error(`${reason.message} ${reason.remedy}`)
      return state === 'Following' && lanes[0]!.copied && lanes[0]!.copiedRows === 198
    }, 30)
    expect(await ask(`SELECT count(*), sum(n) FROM ${there}`)).toEqual(
      await systems
        .ask('alder', `SELECT count(*), sum(n) FROM ${table} WHERE id NOT IN (8, 77)`)
        .then(rows => rows.map(row => row.join(' '))),
    )
    // What was corrected at the target alone is as it is at the source.
    expect((await records()).map(({ told, behind }) => [told[0], behind]).sort()).toEqual([
      ['77', 0],
      ['8', 0],
    ])
    await at(`UPDATE ${table} SET planted = '2026-06-01' WHERE id IN (8, 77)`)
    await eventually(async () => (await held()).rows === 0 && (await status()).consistent, 20)
  }, 60_000)

  test('a table that is emptied at the source stays until somebody lets its rows go', async () => {
    await expect(call(url, 'POST', `/pipelines/${id}/let-rows-go`)).rejects.toThrow('does not ask')
    const before = await ask(`SELECT count(*) FROM ${there}`)
    await at(`TRUNCATE ${table}; INSERT INTO ${table} VALUES (1, '2026-01-01', 1, 'after', NULL)`)
    await eventually(async () => (await status()).reason?.kind === 'guard', 20)
    expect((await status()).reason!.message).toMatch(/^1\d\d of the 2?\d\d rows .* are to be deleted/)
    expect(await ask(`SELECT count(*) FROM ${there}`)).toEqual(before)
    await call(url, 'POST', `/pipelines/${id}/let-rows-go`)
    await eventually(async () => (await ask(`SELECT count(*), max(note) FROM ${there}`))[0] === '1 after', 20)
    await caughtUp()
  }, 60_000)

  test('what is not a deed is refused', async () => {
    await expect(settle({ deed: 'drop', ids: [1] })).rejects.toThrow()
    await expect(settle({ deed: 'forget', ids: [1] })).rejects.toThrow()
    await expect(settle({ deed: 'retry', ids: [] })).rejects.toThrow('None of them')
    await expect(settle({ deed: 'correct', ids: [1, 2], values: { n: '1' } })).rejects.toThrow()
  })
})
