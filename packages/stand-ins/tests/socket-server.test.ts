import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type pg from 'pg'
import { startEmbeddedPostgres } from '../../connectors/tests/embedded-postgres.ts'
import type { TestDatabase } from '../../connectors/tests/real-postgres.ts'
import { IDLE_TRANSACTION_MS } from '../src/postgres/socket-server.ts'

describe('several clients of the embedded database', () => {
  let database: TestDatabase
  let clients: pg.Client[]

  beforeAll(async () => {
    database = await startEmbeddedPostgres()
    clients = await Promise.all(Array.from({ length: 4 }, () => database.connect()))
    await clients[0]!.query('CREATE TABLE counted (n int)')
  })
  afterAll(async () => {
    await Promise.all(clients.map(client => client.end().catch(() => {})))
    await database?.close()
  })

  test('each gets its own answers, with parameters, all at once', async () => {
    const asked = clients.map(async (client, me) => {
      for (let i = 0; i < 60; i++) {
        const { rows } = await client.query(
          `SELECT $1::int AS me, ${me === 0 ? '$2::text' : "'x' || $2::text"} AS text`,
          [me, `t${i}`],
        )
        expect(rows).toEqual([{ me, text: me === 0 ? `t${i}` : `xt${i}` }])
      }
    })
    await Promise.all(asked)
  })

  test('an error of one is nobody else’s', async () => {
    const [a, b] = clients as [pg.Client, pg.Client]
    const wrong = a.query('SELECT $1::int / 0', [1])
    const right = b.query('SELECT $1::int AS n', [2])
    await expect(wrong).rejects.toThrow('division by zero')
    expect((await right).rows).toEqual([{ n: 2 }])
    expect((await a.query('SELECT $1::int AS n', [3])).rows).toEqual([{ n: 3 }])
  })

  test('a transaction is not mixed with others, and goes with its client', async () => {
    const [a, b] = clients as [pg.Client, pg.Client]
    await a.query('BEGIN')
    await a.query('INSERT INTO counted VALUES (1)')
    const waiting = b.query('SELECT count(*)::int AS n FROM counted')
    await a.query('ROLLBACK')
    expect((await waiting).rows).toEqual([{ n: 0 }])
    const leaver = await database.connect()
    await leaver.query('BEGIN')
    await leaver.query('INSERT INTO counted VALUES (2)')
    await leaver.end()
    expect((await b.query('SELECT count(*)::int AS n FROM counted')).rows).toEqual([{ n: 0 }])
  })

  test('who keeps a transaction open and idle is cut off, and the others go on', async () => {
    const sleeper = await database.connect()
    await sleeper.query('BEGIN')
    const began = Date.now()
    const { rows } = await clients[1]!.query('SELECT 1 AS n')
    expect(rows).toEqual([{ n: 1 }])
    expect(Date.now() - began).toBeGreaterThan(IDLE_TRANSACTION_MS * 0.8)
    await expect(sleeper.query('SELECT 1')).rejects.toThrow()
  })
})
