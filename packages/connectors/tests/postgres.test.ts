import { limits } from './limits.ts'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { sameValue } from '@tide/core/records/same'
import type { DatasetName } from '@tide/core/records/dataset'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import type pg from 'pg'
import type { Session } from '../src/contract/session.ts'
import { duckdb } from '../src/duckdb/connector.ts'
import { postgres } from '../src/postgres/connector.ts'
import { insertTypes, ROWS, TYPES } from './every-type.ts'
import { startEmbeddedPostgres } from './embedded-postgres.ts'
import { begin, committing, copyAll, followToHead, openFrom, type From } from './landing.ts'
import { startRealPostgres, type TestDatabase } from './real-postgres.ts'

const SOURCES: [string, () => Promise<TestDatabase>, 'log' | 'triggers'][] = [
  ['the log of Debian’s PostgreSQL', startRealPostgres, 'log'],
  ['triggers in Debian’s PostgreSQL', startRealPostgres, 'triggers'],
  ['triggers in the embedded stand-in', startEmbeddedPostgres, 'triggers'],
]

describe.each(SOURCES)('a source followed by %s', (_, start, method) => {
  let database: TestDatabase
  let client: pg.Client
  let from: From
  let to: Session
  const folder = mkdtempSync(join(tmpdir(), 'constant-tide-test-'))
  let schema = 0
  const landed = async (sql: string) =>
    (await to.query!(sql, limits({ maxRows: 5000, timeoutMs: 20_000 }))).rows
  const table = (name: string) => ({ namespace: 'public', name })
  const open = () => postgres.open({ ...database.config, method })
  const nextSchema = () => `s${schema++}`

  beforeAll(async () => {
    database = await start()
    client = await database.connect()
    from = await openFrom(open)
    to = await duckdb.open({ path: join(folder, 'warehouse.duckdb') })
  })
  afterAll(async () => {
    await from?.close()
    await to?.close()
    await client?.end()
    await database?.close()
    rmSync(folder, { recursive: true, force: true })
  })

  test('every type comes over exactly, copied and followed alike', async () => {
    await client.query(`CREATE TYPE mood AS ENUM ('well', 'so so')`)
    const columns = TYPES.map(([name, type]) => `${name} ${type}`).join(', ')
    for (const name of ['types_copied', 'types_followed'])
      await client.query(`CREATE TABLE ${name} (id int PRIMARY KEY, ${columns})`)
    await client.query(insertTypes('types_copied'))
    // Whoever writes may use other settings than we read by.
    await client.query(
      `SET datestyle = 'German, DMY'; SET intervalstyle = 'sql_standard'; SET timezone = 'Asia/Tokyo'; SET bytea_output = 'escape'; SET extra_float_digits = -5`,
    )
    const schema = nextSchema()
    const carried = await begin(from, to, [table('types_copied'), table('types_followed')], schema)
    await copyAll(from, to, carried)
    await client.query(insertTypes('types_followed').replaceAll("'0044-03-15 BC'", "'15.03.0044 BC'"))
    await client.query('RESET ALL')
    await followToHead(from, to, carried)
    const list = TYPES.map(([name]) => `"${name}"::VARCHAR`).join(', ')
    const [copied, followed] = [
      await landed(`SELECT ${list} FROM ${schema}.types_copied ORDER BY id`),
      await landed(`SELECT ${list} FROM ${schema}.types_followed ORDER BY id`),
    ]
    expect(copied).toHaveLength(ROWS + 1)
    expect(followed).toEqual(copied)
    for (const [i, lane] of carried.lanes.entries()) {
      for (let id = 0; id <= ROWS; id++) {
        const side = (session: Session, name: DatasetName, at: 'source' | 'target') =>
          session.row(
            at === 'source'
              ? { dataset: name, columns: lane.reads, key: lane.identity }
              : { dataset: name, columns: lane.writes, key: lane.key },
            [String(id)],
          )
        const [here, there] = [
          await side(from.session, lane.source, 'source'),
          await side(to, carried.target[i]!.table, 'target'),
        ]
        const unlike = lane.writes.filter((column, c) => !sameValue(here![c], there![c], column.type))
        expect(
          unlike.map(column => [
            column.name,
            here![lane.writes.indexOf(column)],
            there![lane.writes.indexOf(column)],
          ]),
        ).toEqual([])
      }
    }
    expect(
      await from.session.row(
        {
          dataset: table('types_copied'),
          columns: [{ name: 'id', type: { kind: 'int', bits: 32, signed: true }, nativeType: 'integer' }],
          key: ['id'],
        },
        null,
      ),
    ).toEqual([String(ROWS)])
    for (const [i, [name, , values]] of TYPES.entries()) {
      const got = copied.map(row => row[i])
      if (name === 'at')
        expect(await landed(`SELECT unnest("at") FROM ${schema}.types_copied`)).toEqual([
          ['a,b'],
          ['c"d'],
          [''],
          [null],
          ['NULL'],
          ['x\\y'],
          ['{'],
        ])
      else
        expect([name, ...got]).toEqual([
          name,
          ...Array.from({ length: ROWS + 1 }, (_, row) => values[row]?.[1] ?? null),
        ])
    }
  })

  test('composite keys, odd names, key changes, upserts, delete then insert, truncate', async () => {
    await client.query(
      `CREATE TABLE "Plot / Row" ("Part No" text, "b""q" int, "Größe" text, PRIMARY KEY ("b""q", "Part No"))`,
    )
    await client.query(`CREATE TABLE emptied (id int PRIMARY KEY)`)
    await client.query(
      `INSERT INTO "Plot / Row" SELECT 'p' || i % 7, i / 7, 'v' || i FROM generate_series(1, 5000) i; INSERT INTO emptied VALUES (1), (2)`,
    )
    const schema = nextSchema()
    const carried = await begin(from, to, [table('Plot / Row'), table('emptied')], schema)
    await copyAll(from, to, carried)
    await client.query(`UPDATE "Plot / Row" SET "b""q" = "b""q" + 10000 WHERE "Part No" = 'p3'`)
    await client.query(
      `BEGIN; DELETE FROM "Plot / Row" WHERE "b""q" = 5; INSERT INTO "Plot / Row" VALUES ('p1', 5, 'again'), ('p"2', 5, NULL); UPDATE "Plot / Row" SET "Größe" = '' WHERE "b""q" = 5 AND "Part No" = 'p1'; COMMIT`,
    )
    await client.query(
      `INSERT INTO "Plot / Row" VALUES ('p2', 9, 'upserted') ON CONFLICT ("b""q", "Part No") DO UPDATE SET "Größe" = 'upserted'`,
    )
    await client.query(`BEGIN; INSERT INTO "Plot / Row" VALUES ('never', 1, NULL); ROLLBACK`)
    await client.query(
      `BEGIN; INSERT INTO emptied VALUES (3); TRUNCATE emptied; INSERT INTO emptied VALUES (4); COMMIT`,
    )
    await followToHead(from, to, carried)
    const source = await client.query({
      text: `SELECT "Part No", "b""q"::text, "Größe" FROM "Plot / Row" ORDER BY 2, 1`,
      rowMode: 'array',
    })
    const target = await landed(
      `SELECT "Part No", "b""q"::VARCHAR, "Größe" FROM ${schema}."Plot / Row" ORDER BY 2, 1`,
    )
    expect(target.map(row => JSON.stringify(row)).sort()).toEqual(
      source.rows.map(row => JSON.stringify(row)).sort(),
    )
    expect(await landed(`SELECT id FROM ${schema}.emptied`)).toEqual([['4']])
  })

  test('a copy goes on after a key; a transaction in parts lands whole; a long text comes over', async () => {
    await client.query(`CREATE TABLE big (id int PRIMARY KEY, body text)`)
    await client.query(`INSERT INTO big SELECT i, 'body ' || i FROM generate_series(1, 5000) i`)
    const schema = nextSchema()
    const carried = await begin(from, to, [table('big')], schema)
    const [source, target] = [carried.source[0]!, carried.target[0]!]
    const view = await from.source.view()
    const signal = new AbortController().signal
    const commit = committing(carried.checkpoint)
    let first: string | null = null
    for await (const range of view.copy(source, null, signal)) {
      await to.target!.load(target, range, false, commit)
      first = range.upTo
      break
    }
    for await (const range of view.copy(source, first, signal))
      await to.target!.load(target, range, first === null, commit)
    // Ranges that may be there already take the place of their rows.
    for await (const range of view.copy(source, null, signal))
      await to.target!.load(target, range, true, commit)
    await view.close()
    carried.source[0] = { ...source, since: view.position }
    expect(await landed(`SELECT count(*), count(DISTINCT id) FROM ${schema}.big`)).toEqual([['5000', '5000']])
    await client.query(
      `BEGIN; UPDATE big SET body = body || '!'; INSERT INTO big VALUES (9001, repeat('x€', 600000)), (9002, repeat('y', 3000000)); COMMIT`,
    )
    await client.query(`DELETE FROM big WHERE id = 1`)
    const { events, parts } = await followToHead(from, to, carried, 700)
    expect(events).toBe(5003)
    expect(parts).toBeGreaterThan(5)
    expect(await landed(`SELECT count(*), sum(length(body)), max(length(body)) FROM ${schema}.big`)).toEqual([
      (
        await client.query({
          text: `SELECT count(*)::text, sum(length(body))::text, max(length(body))::text FROM big`,
          rowMode: 'array',
        })
      ).rows[0],
    ])
  })
})
