import { limits } from './limits.ts'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import type pg from 'pg'
import { duckdb } from '../src/duckdb/connector.ts'
import { postgres } from '../src/postgres/connector.ts'
import { begin, copyAll, followOnce, followToHead, openFrom } from './landing.ts'
import { startRealPostgres, type TestDatabase } from './real-postgres.ts'

describe.each(['log', 'triggers'])('on a server with many sessions, by %s', method => {
  let database: TestDatabase
  beforeAll(async () => {
    database = await startRealPostgres()
  })
  afterAll(async () => {
    await database?.close()
  })

  test('concurrent writers, savepoints and an idle transaction: both sides end up equal', async () => {
    const folder = mkdtempSync(join(tmpdir(), 'constant-tide-test-'))
    const setup = await database.connect()
    await setup.query(`CREATE TABLE busy (id int PRIMARY KEY, v int NOT NULL, by text)`)
    await setup.query(`INSERT INTO busy SELECT i, 0, 'start' FROM generate_series(1, 60) i`)
    const from = await openFrom(() => postgres.open({ ...database.config, method }))
    const to = await duckdb.open({ path: join(folder, 'warehouse.duckdb') })
    const idle = await database.connect()
    const idleTransaction = async () => {
      await idle.query('BEGIN')
      await idle.query(`SELECT pg_current_xact_id()`)
    }
    // It must hold up no one; only a slot cannot be made while it is open.
    if (method === 'triggers') await idleTransaction()
    const writers = await Promise.all(Array.from({ length: 8 }, () => database.connect()))
    let going = true
    const work = async (client: pg.Client, me: number) => {
      for (let n = 0; going || n < 50; n++) {
        const ids = Array.from({ length: 3 }, (_, i) => 1 + ((n * 7 + me * 13 + i * 17) % 80)).sort(
          (a, b) => a - b,
        )
        try {
          await client.query('BEGIN')
          for (const id of ids) {
            await client.query(
              `INSERT INTO busy VALUES ($1, 1, $2) ON CONFLICT (id) DO UPDATE SET v = busy.v + 1, by = $2`,
              [id, `w${me}`],
            )
          }
          await client.query(
            `SAVEPOINT s; DELETE FROM busy WHERE id % 5 = ${n % 5} AND id > 70; ${n % 2 ? 'ROLLBACK TO SAVEPOINT s' : 'RELEASE SAVEPOINT s'}`,
          )
          if (n % 6 === 0)
            await client.query(
              `UPDATE busy SET id = id + 1000 WHERE id = ${ids[0]} AND NOT EXISTS (SELECT FROM busy WHERE id = ${ids[0]! + 1000})`,
            )
          await client.query(n % 9 === 0 ? 'ROLLBACK' : 'COMMIT')
        } catch (error) {
          await client.query('ROLLBACK')
          if ((error as { code: string }).code !== '40P01' && (error as { code: string }).code !== '23505')
            throw error
        }
      }
    }
    const working = writers.map(work)
    const carried = await begin(from, to, [{ namespace: 'public', name: 'busy' }], 'main')
    await copyAll(from, to, carried)
    if (method === 'log') await idleTransaction()
    let seen = 0
    // At least five seconds, and on a busy machine for as long as it takes to see many.
    for (const end = Date.now() + 5_000; Date.now() < end || seen <= 500;) {
      const { changes } = await followOnce(from, to, carried, 200)
      seen += changes
      // What the journal holds is read without waiting for anything; then nothing more would ever come into it.
      if (changes === 0) await from.source.news(50, new AbortController().signal)
    }
    going = false
    await Promise.all(working)
    await idle.query('ROLLBACK')
    seen += (await followToHead(from, to, carried)).events
    const source = await setup.query({
      text: `SELECT id::text, v::text, by FROM busy ORDER BY busy.id`,
      rowMode: 'array',
    })
    const target = await to.query!(
      `SELECT id::VARCHAR, v::VARCHAR, "by" FROM main.busy ORDER BY busy.id`,
      limits({ maxRows: 5000 }),
    )
    expect(target.rows).toEqual(source.rows)
    await Promise.all([...writers, idle, setup].map(client => client.end()))
    await from.close()
    await to.close()
    rmSync(folder, { recursive: true, force: true })
  })

  test.each([
    ['a wrong password', { password: 'no' }, /refuses the password/],
    ['a wrong database', { database: 'elsewhere' }, /"elsewhere" does not exist/],
    ['a wrong port', { port: 1 }, /Nothing answers at 127\.0\.0\.1:1/],
    ['a wrong host', { host: 'no-such-host.invalid' }, /not known by that name/],
  ])('a check names %s and the remedy', async (_, wrong, message) => {
    const items = []
    for await (const item of postgres.check({ ...database.config, method, ...wrong })) items.push(item)
    expect(items).toEqual([
      {
        what: 'Reach and sign in',
        result: 'failed',
        found: expect.stringMatching(message),
        remedy: expect.stringMatching(/./),
      },
    ])
  })

  test('a check prints the statements that give missing rights', async () => {
    const setup = await database.connect()
    await setup.query(`CREATE ROLE looker LOGIN PASSWORD 'x'`)
    await setup.end()
    const failed: Record<string, string> = {}
    for await (const { what, result, paste } of postgres.check({
      ...database.config,
      method: 'triggers',
      user: 'looker',
      password: 'x',
    }))
      if (result === 'failed') failed[what] = paste!
    expect(failed).toEqual({
      'Read tables': expect.stringContaining('GRANT SELECT ON ALL TABLES IN SCHEMA my_schema TO "looker"'),
      'Keep a change table': 'GRANT CREATE ON DATABASE "postgres" TO "looker";',
    })
  })
})
