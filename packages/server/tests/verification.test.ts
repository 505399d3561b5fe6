/** Verifications of real targets while changes flow: what is equal is said to be, what somebody has changed is found and repaired. */
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type { ErrandOutcome } from '@tide/core/api/errand'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { RowPair } from '@tide/core/api/rows'
import type { DifferenceAnswer, VerificationAnswer } from '@tide/core/api/verification'
import { agrees } from '@tide/core/definition/verification'
import { eventually } from '../../../e2e/server.ts'
import { call } from '../../stand-ins/src/api-call.ts'
import { openRealSystems, type RealSystems } from './real-systems.ts'

const ROWS = 3000

let systems: RealSystems
let url: string
const at = (sql: string) => systems.inPostgres('alder', sql)

beforeAll(async () => {
  systems = await openRealSystems(['alder', 'gathered'])
  ;({ url } = systems)
  await systems.connect('into postgres', 'postgres', { ...systems.postgres.config, database: 'gathered' })
  await systems.connect('into mariadb', 'mariadb', systems.mariadb.config)
  await at('CREATE SCHEMA site')
}, 120_000)
afterAll(() => systems?.close())

const TARGETS = [
  { to: 'into postgres', there: (sql: string) => systems.inPostgres('gathered', sql) },
  { to: 'into mariadb', there: (sql: string) => systems.inMariadb(sql) },
]

describe.each(TARGETS)('$to', ({ to, there }) => {
  const name = to.split(' ')[1]!
  const table = `site.beds_${name}`
  const copy = `from_${name}.beds_${name}`
  let id: string
  const status = () => call<PipelineStatus>(url, 'GET', `/pipelines/${id}`)
  const all = () => call<VerificationAnswer[]>(url, 'GET', `/pipelines/${id}/verifications`)
  const verify = async (asked: object = {}) => {
    const begun = await call<{ id: string }>(url, 'POST', `/pipelines/${id}/verifications`, asked)
    let found: VerificationAnswer | undefined
    await eventually(async () => {
      found = (await all()).find(one => one.id === begun.id)!
      return found.lanes.every(({ verified }) => verified.endedAt !== null)
    }, 40)
    return { id: begun.id, verified: found!.lanes[0]!.verified }
  }
  const differences = (of: string) =>
    call<DifferenceAnswer[]>(url, 'GET', `/pipelines/${id}/verifications/${of}/lanes/0/differences`)
  const repair = (of: string, ids: number[] = []) =>
    call<ErrandOutcome>(url, 'POST', `/pipelines/${id}/verifications/${of}/lanes/0/repair`, { ids })

  test('is equal while rows change, also those that are read', async () => {
    await at(`CREATE TABLE ${table} (id int PRIMARY KEY, planted timestamptz, area numeric(8,2), note text, vigour real);
      INSERT INTO ${table} SELECT i, '2026-03-01 12:00+02'::timestamptz + i * interval '1 second', i / 3.0,
        CASE i % 3 WHEN 0 THEN NULL WHEN 1 THEN '' ELSE 'a "note", ' || i END, i / 7.0 FROM generate_series(1, ${ROWS}) i`)
    const definition = {
      version: 2,
      shape: 'replicate',
      name: `beds ${to}`,
      from: systems.ids.alder,
      to: systems.ids[to],
      targetSchema: `from_${name}`,
      tables: [{ namespace: 'site', name: `beds_${name}` }],
    }
    ;({ id } = await call<PipelineStatus>(url, 'POST', '/pipelines', definition))
    await call(url, 'POST', `/pipelines/${id}/start`)
    let writing = true
    const writes = (async () => {
      for (let n = 0; writing; n++) {
        await at(`UPDATE ${table} SET note = 'now ' || ${n} WHERE id % 97 = ${n % 97};
          DELETE FROM ${table} WHERE id = ${1 + (n % ROWS)}; INSERT INTO ${table} (id) VALUES (${ROWS + 1 + n})`)
      }
    })()
    try {
      for (const level of ['rows', 'rows', 'counts']) {
        const { verified } = await verify({ level })
        expect(verified.problem).toBeNull()
        if (level === 'rows') expect(verified.equal).toBeGreaterThan(ROWS / 2)
        // Where the number of rows never stood still, it is not known, and nothing else.
        expect(agrees(verified)).not.toBe(false)
        if (level === 'rows') expect(agrees(verified)).toBe(true)
      }
    } finally {
      writing = false
      await writes
    }
  }, 120_000)

  test('just what somebody has changed there is found, shown, and repaired', async () => {
    await at(
      `INSERT INTO ${table} VALUES (100001, NULL, 1, 'one', 1), (100002, NULL, 2, 'two', 2), (100003, NULL, 3, 'three', 3)`,
    )
    await eventually(async () => (await status()).backlog === 0, 20)
    await eventually(
      async () => (await systems.ask(to, `SELECT id FROM ${copy} WHERE id = 100003`)).length === 1,
      20,
    )
    await there(`UPDATE ${copy} SET note = 'not one', area = 7 WHERE id = 100001; DELETE FROM ${copy} WHERE id = 100002;
      INSERT INTO ${copy} (id) VALUES (-5)`)
    const { id: first, verified } = await verify()
    expect(verified).toMatchObject({
      state: 'done',
      different: 1,
      onlySource: 1,
      onlyTarget: 1,
      held: 0,
      inMotion: 0,
    })
    expect(verified.strip.differences.reduce((sum, n) => sum + n, 0)).toBe(3)
    const found = await differences(first)
    expect(found.map(({ key, kind, columns }) => ({ key, kind, columns }))).toEqual(
      expect.arrayContaining([
        { key: ['-5'], kind: 'only target', columns: [] },
        { key: ['100001'], kind: 'different', columns: ['area', 'note'] },
        { key: ['100002'], kind: 'only source', columns: [] },
      ]),
    )
    const one = found.find(({ key }) => key[0] === '100001')!
    const pair = await call<RowPair>(
      url,
      'GET',
      `/pipelines/${id}/verifications/${first}/lanes/0/differences/${one.id}`,
    )
    expect(pair.fields.filter(({ same }) => !same)).toMatchObject([
      { name: 'area', source: '1.00', there: '7.00' },
      { name: 'note', source: 'one', there: 'not one' },
    ])
    // What has changed since is written as it stands when it is repaired.
    await at(`UPDATE ${table} SET note = 'newer' WHERE id = 100001`)
    expect(await repair(first, [one.id])).toMatchObject({ state: 'done' })
    expect(await systems.ask(to, `SELECT note FROM ${copy} WHERE id = 100001`)).toEqual([['newer']])
    expect(await repair(first)).toMatchObject({
      state: 'done',
      outcome: '1 row written as it stands at the source, 1 row that the source does not have taken away',
    })
    expect((await all()).find(one => one.id === first)!.lanes[0]!.repaired).toBe(3)
    const again = await verify()
    expect(agrees(again.verified)).toBe(true)
    expect(await repair(first)).toMatchObject({ outcome: 'None of them is left to be repaired.' })
  }, 120_000)

  test('a table that was emptied is found empty, by rows and by counts, and filled again', async () => {
    const [[rows]] = (await systems.ask(to, `SELECT count(*) FROM ${copy}`)) as [[string]]
    await there(`DELETE FROM ${copy}`)
    const counts = await verify({ level: 'counts' })
    expect(counts.verified).toMatchObject({ atSource: Number(rows), atTarget: 0 })
    expect(agrees(counts.verified)).toBe(false)
    const { id: first, verified } = await verify()
    expect(verified).toMatchObject({ onlySource: Number(rows), equal: 0, atTarget: 0 })
    expect((await differences(first)).length).toBe(200)
    expect(await repair(first)).toMatchObject({ state: 'done' })
    expect(await systems.ask(to, `SELECT count(*) FROM ${copy}`)).toEqual([[rows]])
    expect(agrees((await verify()).verified)).toBe(true)
  }, 120_000)

  test('what cannot be verified says so, and what there is no more is refused', async () => {
    await expect(verify({ lanes: [4] })).rejects.toThrow(/no lane 4/)
    await expect(verify({ level: 'smell' })).rejects.toThrow(/What is compared/)
    await expect(verify({ rowsPerSecond: 0 })).rejects.toThrow(/Rows a second/)
    await expect(differences('nothing')).rejects.toThrow(/no such verification/)
    await expect(call(url, 'POST', `/pipelines/${id}/verifications/..%2f..%2fx/end`)).rejects.toThrow(
      /is no id/,
    )
    await there(`ALTER TABLE ${copy} RENAME TO ${to === 'into mariadb' ? `from_${name}.away` : 'away'}`)
    const { verified } = await verify()
    expect(verified.state).toBe('failed')
    expect(verified.problem!.message).toContain(`beds_${name}`)
    expect(agrees(verified)).toBeNull()
    await there(
      to === 'into mariadb'
        ? `ALTER TABLE from_${name}.away RENAME TO ${copy}`
        : `ALTER TABLE from_${name}.away RENAME TO beds_${name}`,
    )
    await call(url, 'POST', `/pipelines/${id}/pause`)
    await eventually(async () => (await status()).state === 'Paused', 20)
    await expect(verify()).rejects.toThrow(/is paused/)
    await call(url, 'POST', `/pipelines/${id}/continue`)
  }, 120_000)

  test('one that a person ends stays ended; another waits while the pipeline is paused, and goes on', async () => {
    await eventually(async () => (await status()).state === 'Following', 20)
    const slow = { rowsPerSecond: 1 }
    const begun = await call<{ id: string }>(url, 'POST', `/pipelines/${id}/verifications`, slow)
    const lane = async () => (await all()).find(one => one.id === begun.id)!.lanes[0]!.verified
    await eventually(async () => (await lane()).state === 'reading', 20)
    await call(url, 'POST', `/pipelines/${id}/verifications/${begun.id}/end`)
    await eventually(async () => (await lane()).state === 'ended', 5)
    const other = await call<{ id: string }>(url, 'POST', `/pipelines/${id}/verifications`, {
      rowsPerSecond: 1000,
    })
    const verified = async () => (await all()).find(one => one.id === other.id)!.lanes[0]!.verified
    await eventually(async () => (await verified()).state === 'reading', 20)
    await call(url, 'POST', `/pipelines/${id}/pause`)
    await eventually(async () => (await status()).state === 'Paused', 20)
    await call(url, 'POST', `/pipelines/${id}/continue`)
    await eventually(async () => (await verified()).endedAt !== null, 40)
    expect(agrees(await verified())).toBe(true)
    expect((await lane()).state).toBe('ended')
  }, 120_000)
})
