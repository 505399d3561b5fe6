/** What once put wrong rows into targets, or hung, with PostgreSQL as the source. */
import { afterAll, afterEach, beforeAll, describe, expect, test } from '@jest/globals'
import { setTimeout as sleep } from 'node:timers/promises'
import pg from 'pg'
import type { Session } from '../src/contract/session.ts'
import { mariadb } from '../src/mariadb/connector.ts'
import { postgres } from '../src/postgres/connector.ts'
import { begin, copyAll, followToHead, openFrom, type From } from './landing.ts'
import { startRealMariadb, type RealMariadb } from './real-mariadb.ts'
import { followUntil, RecordingSink } from './recording-sink.ts'
import { startRealPostgres, type RealPostgres } from './real-postgres.ts'

const table = (name: string) => ({ namespace: 'public', name })

describe('PostgreSQL at the edges', () => {
  let database: RealPostgres
  let other: RealMariadb
  let client: pg.Client
  let reader: pg.Client
  let to: Session
  let from: From
  let schemas = 0
  const open = () => postgres.open({ ...database.config, method: 'log' })
  const there = async (text: string) => (await reader.query({ text, rowMode: 'array' })).rows
  const here = async (text: string) => (await client.query({ text, rowMode: 'array' })).rows
  const start = async (names: string[]) => {
    const carried = await begin(from, to, names.map(table), `s${++schemas}`, true)
    await copyAll(from, to, carried)
    return carried
  }

  beforeAll(async () => {
    ;[database, other] = await Promise.all([
      startRealPostgres({ max_prepared_transactions: '5' }),
      startRealMariadb(),
    ])
    client = await database.connect()
    await client.query('CREATE DATABASE other')
    reader = new pg.Client({ ...database.config, database: 'other' })
    await reader.connect()
    to = await postgres.open({ ...database.config, database: 'other', method: 'log' })
    from = await openFrom(open)
  }, 120_000)
  afterEach(async () => {
    await from.close()
    const session = await open()
    await session.log!.close('conformance')
    await session.close()
    from = await openFrom(open)
  })
  afterAll(async () => {
    await from?.close()
    await to?.close()
    await Promise.all([client?.end(), reader?.end()])
    await Promise.all([database?.close(), other?.close()])
  })

  test('lists of every kind are the same copied and followed: no list, NULLs, quotes, bounds, other delimiters', async () => {
    const values = `(1, NULL, NULL, NULL, NULL, NULL), (2, '{}', '{}', '{}', '{}', '{}'),
      (3, '{1,NULL}', ARRAY['a,b', 'c"d', '', NULL, 'NULL', E'x\\\\y', '{'], '{(1,1),(0,0);(2,3),(-1,0)}', '{t,f,NULL}', '[2:3][0:0]={{a},{"b c"}}'),
      (4, '[-1:0]={7,8}', '[0:0]={x}', '{NULL;(1,1),(0,0)}', '{f}', '{{a,NULL}}')`
    for (const name of ['lists_copied', 'lists_followed'])
      await client.query(
        `CREATE TABLE ${name} (id int PRIMARY KEY, i int[], t text[], b box[], f boolean[], c char(4)[])`,
      )
    await client.query(`INSERT INTO lists_copied VALUES ${values}`)
    const maria = await mariadb.open({ ...other.config })
    const carried = await start(['lists_copied', 'lists_followed'])
    const beside = await begin(from, maria, [table('lists_copied'), table('lists_followed')], 'lists')
    await copyAll(from, maria, beside)
    await client.query(`INSERT INTO lists_followed VALUES ${values}`)
    await followToHead(from, to, carried)
    await followToHead(from, maria, beside)
    const rows = await here('SELECT l::text FROM lists_copied l ORDER BY id')
    for (const name of ['lists_copied', 'lists_followed'])
      expect(await there(`SELECT l::text FROM s${schemas}.${name} l ORDER BY id`)).toEqual(rows)
    const session = await other.connect()
    const texts = (name: string) => session.arrays(`SELECT i, t, b, f, c FROM lists.${name} ORDER BY id`)
    expect(await texts('lists_copied')).toEqual(await texts('lists_followed'))
    expect((await texts('lists_copied'))[2]).toEqual([
      '["1",null]',
      JSON.stringify(['a,b', 'c"d', '', null, 'NULL', 'x\\y', '{']),
      '["(1,1),(0,0)","(2,3),(-1,0)"]',
      '["t","f",null]',
      '[["a   "],["b c "]]',
    ])
    await session.close()
    await maria.close()
  })

  test('a key that PostgreSQL could take for the end of the data ends nothing', async () => {
    await client.query(`CREATE TABLE ends (id text PRIMARY KEY)`)
    await client.query(`INSERT INTO ends VALUES ('a'), ('\\.'), ('b'), (E'\\ufeff')`)
    const carried = await start(['ends'])
    await client.query(`DELETE FROM ends WHERE id IN ('\\.', 'b')`)
    await client.query(`INSERT INTO ends VALUES ('c'), ('\\.'), ('d')`)
    await followToHead(from, to, carried)
    expect(await there(`SELECT id FROM s${schemas}.ends ORDER BY 1`)).toEqual(
      await here('SELECT id FROM ends ORDER BY 1'),
    )
  })

  test.each([
    ['another index', 'REPLICA IDENTITY USING INDEX identified_code_key'],
    ['nothing', 'REPLICA IDENTITY NOTHING'],
  ])('a replica identity of %s stops at the first change that shows it', async (_, identity) => {
    await client.query(
      'DROP TABLE IF EXISTS identified; CREATE TABLE identified (id int PRIMARY KEY, code int NOT NULL UNIQUE)',
    )
    await client.query('INSERT INTO identified VALUES (1, 1), (2, 2)')
    const carried = await start(['identified'])
    await client.query('INSERT INTO identified VALUES (3, 3)')
    await client.query(`ALTER TABLE identified ${identity}`)
    await client.query('INSERT INTO identified VALUES (4, 4)')
    if (identity.includes('INDEX')) await client.query('UPDATE identified SET id = 20 WHERE id = 2')
    await expect(followToHead(from, to, carried)).rejects.toMatchObject({
      kind: 'structural',
      message: expect.stringMatching(/replica identity of public\.identified was changed/),
      remedy: expect.stringMatching(/REPLICA IDENTITY/),
    })
    // What was committed before has landed, and nothing is there twice.
    expect(await there(`SELECT id FROM s${schemas}.identified ORDER BY 1`)).toEqual([[1], [2], [3]])
    await client.query('DROP TABLE identified')
  })

  test('FULL tells the key as well, and goes on', async () => {
    await client.query('CREATE TABLE wider (id int PRIMARY KEY, v text)')
    await client.query(`INSERT INTO wider VALUES (1, 'a')`)
    const carried = await start(['wider'])
    await client.query('ALTER TABLE wider REPLICA IDENTITY FULL')
    await client.query(`UPDATE wider SET id = 5, v = 'b'`)
    await followToHead(from, to, carried)
    expect(await there(`SELECT * FROM s${schemas}.wider`)).toEqual([[5, 'b']])
  })

  test('tables of a publication that somebody made beforehand are covered when they are first followed', async () => {
    await client.query('CREATE TABLE early (id int PRIMARY KEY); CREATE TABLE late (id int PRIMARY KEY)')
    await client.query(
      `CREATE PUBLICATION constant_tide_conformance FOR TABLE early, late WITH (publish = 'insert, update, delete, truncate')`,
    )
    const first = await start(['early'])
    const second = await begin(from, to, [table('late')], `s${++schemas}`, true)
    await copyAll(from, to, second)
    await client.query('INSERT INTO early VALUES (1); INSERT INTO late VALUES (2)')
    await followToHead(from, to, first)
    await followToHead(from, to, second)
    expect(await there(`SELECT id FROM s${schemas}.late`)).toEqual([[2]])
  })

  test('the cursor waits for what is prepared, and says for what', async () => {
    await client.query('CREATE TABLE stamped (id int PRIMARY KEY, updated_at timestamptz NOT NULL)')
    const session = await postgres.open({
      ...database.config,
      method: 'cursor',
      cursorEverySeconds: 1,
      cursorSettleSeconds: 0,
    })
    const log = session.log!
    const tables = [table('stamped')]
    const from = await log.open('reader', tables)
    await client.query(`BEGIN; INSERT INTO stamped VALUES (1, now()); PREPARE TRANSACTION 'spring'`)
    await sleep(30)
    await client.query('INSERT INTO stamped VALUES (2, now())')
    const sink = new RecordingSink(from.at)
    const reading = { from, tables, stops: [] }
    await expect(followUntil(log, 'reader', reading, sink, () => false)).rejects.toMatchObject({
      kind: 'transient',
      message: expect.stringMatching(/transaction spring, prepared at/),
    })
    await client.query(`COMMIT PREPARED 'spring'`)
    await followUntil(log, 'reader', reading, sink, () => sink.rows.length === 2)
    expect(sink.rows.map(([id]) => id)).toEqual(['1', '2'])
    await session.close()
  })

  test('by triggers, completeness and lag are told no better than they are known', async () => {
    await client.query('CREATE TABLE listed (id int PRIMARY KEY)')
    const session = await postgres.open({ ...database.config, method: 'triggers' })
    const log = session.log!
    const tables = [table('listed')]
    const from = await log.open('reader', tables)
    // More transactions than one listing holds.
    await client.query(
      `DO $$ BEGIN FOR i IN 1..12000 LOOP INSERT INTO listed VALUES (i); COMMIT; END LOOP; END $$`,
    )
    const sink = new RecordingSink(from.at)
    await followUntil(log, 'reader', { from, tables, stops: [] }, sink, () => sink.marks.length > 0)
    // Nothing is said to be complete before all of the listings are through.
    expect(sink.transactions).toHaveLength(12_000)
    const { at } = (await client.query(`SELECT extract(epoch FROM clock_timestamp()) * 1000000 AS at`))
      .rows[0]
    expect(sink.marks[0]!.at).toBeLessThanOrEqual(Number(at))
    expect(sink.marks[0]!.at).toBeGreaterThanOrEqual(sink.transactions.at(-1)!.at)
    await log.close('reader')
    await session.close()
  })
})
