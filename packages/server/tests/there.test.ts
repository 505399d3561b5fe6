/** Tables that others have made and filled: nothing of theirs goes without having been said. By the systems' own SQL. */
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { DuckDBInstance } from '@duckdb/node-api'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { PlanAnswer } from '@tide/core/api/plans'
import type { ReplicateDefinition } from '@tide/core/definition/definition'
import { join } from 'node:path'
import { eventually } from '../../../e2e/server.ts'
import { call } from '../../stand-ins/src/api-call.ts'
import { openRealSystems, type RealSystems } from './real-systems.ts'

let systems: RealSystems
let url: string
let ids: Record<string, string>

/** Wider than a plan would make it, with rows of somebody else's and a row that is out of date. */
const THERE = `CREATE TABLE shop.beds (id bigint NOT NULL PRIMARY KEY, note TEXT_TYPE, n bigint);
  INSERT INTO shop.beds VALUES (9001, 'somebody''s', 1), (9002, 'theirs', 2), (1, 'out of date', 3)`

beforeAll(async () => {
  systems = await openRealSystems(['alder', 'shop'])
  ;({ url, ids } = systems)
  await systems.inMariadb(
    `CREATE DATABASE shop; ${THERE.replace('TEXT_TYPE', 'longtext COLLATE utf8mb4_nopad_bin')}`,
  )
  await systems.inPostgres('shop', `CREATE SCHEMA shop; ${THERE.replace('TEXT_TYPE', 'text')}`)
  const path = join(systems.folder, 'warehouse.duckdb')
  const file = await DuckDBInstance.create(path)
  const connection = await file.connect()
  await connection.run('CREATE SCHEMA shop')
  for (const sql of THERE.replace('TEXT_TYPE', 'text').split(';')) await connection.run(sql)
  connection.disconnectSync()
  file.closeSync()
  await systems.connect('into duckdb', 'duckdb', { path })
  await systems.connect('into postgres', 'postgres', { ...systems.postgres.config, database: 'shop' })
  await systems.connect('into mariadb', 'mariadb', { ...systems.mariadb.config, database: 'shop' })
}, 120_000)
afterAll(() => systems?.close())

describe.each(['into duckdb', 'into postgres', 'into mariadb'])('a table that is there, %s', to => {
  let id: string
  let definition: ReplicateDefinition
  const at = (sql: string) => systems.inPostgres('alder', sql)
  const status = () => call<PipelineStatus>(url, 'GET', `/pipelines/${id}`)
  const plan = () => call<PlanAnswer>(url, 'POST', '/plan', { pipeline: id, definition, fresh: true })
  const rowsAt = async (ids: string) =>
    (await systems.ask(to, `SELECT id, note, n FROM shop.beds WHERE id IN (${ids}) ORDER BY id`)).map(row =>
      row.join(' '),
    )
  const count = async () => Number((await systems.ask(to, 'SELECT count(*) FROM shop.beds'))[0]![0])
  const landed = async () => {
    const { completeUpTo } = await status()
    await eventually(async () => {
      const { completeUpTo: now, reason } = await status()
      if (reason) throw new Error(`${reason.message} ${reason.remedy}`)
      return now !== null && completeUpTo !== null && now > completeUpTo
    }, 30)
  }
  const start = async (part: Partial<ReplicateDefinition>) => {
    definition = { ...definition, ...part }
    await call(url, 'PUT', `/pipelines/${id}`, definition)
    const { digest } = await plan()
    await call(url, 'POST', `/pipelines/${id}/start`, { plan: digest })
    await eventually(async () => {
      const { state, reason, lanes } = await status()
      if (reason) throw new Error(`${reason.message} ${reason.remedy}`)
      return state === 'Following' && lanes.every(({ copied }) => copied)
    }, 30)
  }
  const stop = async () => {
    await call(url, 'POST', `/pipelines/${id}/stop`)
    await eventually(async () => (await status()).state === 'Stopped', 30)
  }

  beforeAll(async () => {
    await at(
      `DROP SCHEMA IF EXISTS site CASCADE; CREATE SCHEMA site;
       CREATE TABLE site.beds (id int PRIMARY KEY, note text, n int);
       INSERT INTO site.beds SELECT i, 'note ' || i, i % 7 FROM generate_series(1, 300) i`,
    )
    definition = {
      version: 2,
      shape: 'replicate',
      name: `there ${to}`,
      from: ids.alder!,
      to: ids[to]!,
      targetSchema: 'shop',
      tables: [{ namespace: 'site', name: 'beds' }],
    }
    id = (await call<PipelineStatus>(url, 'POST', '/pipelines', definition)).id
  })

  test('is not touched before somebody says what becomes of it', async () => {
    const { notes, steps } = await plan()
    expect(steps).toEqual([])
    expect(notes.map(({ level, message }) => `${level}: ${message}`)).toEqual([
      'undecided: shop.beds is at the target already, with 3 rows that this pipeline did not put there.',
    ])
    await expect(call(url, 'POST', `/pipelines/${id}/start`)).rejects.toThrow('is at the target already')
    expect(await count()).toBe(3)
  })

  test('keeps the rows that the source does not have, whatever comes', async () => {
    await start({ there: { rows: 'add' } })
    expect(await count()).toBe(302)
    expect(await rowsAt('1, 2, 9001, 9002')).toEqual([
      '1 note 1 1',
      '2 note 2 2',
      "9001 somebody's 1",
      '9002 theirs 2',
    ])
    // A key of somebody else's comes from the source, alone in its batch.
    await at(`INSERT INTO site.beds VALUES (9002, 'ours now', 5)`)
    await landed()
    expect(await rowsAt('9002')).toEqual(['9002 ours now 5'])
    await at(`DELETE FROM site.beds WHERE id IN (2, 9002); UPDATE site.beds SET n = 70 WHERE id = 3`)
    await landed()
    expect(await rowsAt('2, 3, 9001, 9002')).toEqual(['3 note 3 70', "9001 somebody's 1"])
    await call(url, 'POST', `/pipelines/${id}/recopy`, { lanes: [0] })
    await eventually(async () => {
      const { lanes, state } = await status()
      return state === 'Following' && lanes[0]!.copied && lanes[0]!.copiedRows === 299
    }, 30)
    expect(await rowsAt('3, 9001')).toEqual(['3 note 3 70', "9001 somebody's 1"])
    expect(await count()).toBe(300)
    await stop()
  })

  test('is taken for the copy: nothing is copied, and changes follow', async () => {
    await at(`UPDATE site.beds SET note = 'not seen' WHERE id = 4`)
    await start({ there: { rows: 'are the copy' } })
    await at(`UPDATE site.beds SET note = 'seen' WHERE id = 5`)
    await eventually(async () => (await rowsAt('5'))[0] === '5 seen 5', 30)
    expect(await rowsAt('4')).toEqual(['4 note 4 4'])
    // What nobody has compared is not said to be equal.
    expect((await status()).consistent).toBe(false)
    await stop()
  })

  test('is emptied, and then holds what the source does', async () => {
    definition = { ...definition, there: { rows: 'empty' } }
    await call(url, 'PUT', `/pipelines/${id}`, definition)
    expect((await plan()).notes).toMatchObject([
      { level: 'loss', message: 'The 300 rows of shop.beds are deleted.', others: true },
    ])
    await start({})
    await at(`INSERT INTO site.beds VALUES (400, 'new', 1)`)
    await eventually(async () => (await rowsAt('400')).length === 1, 30)
    expect(await systems.ask(to, 'SELECT id, note, n FROM shop.beds ORDER BY id')).toEqual(
      await systems.ask('alder', 'SELECT id, note, n FROM site.beds ORDER BY id'),
    )
    await stop()
  })
})
