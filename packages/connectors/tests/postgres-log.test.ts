import { limits } from './limits.ts'
import { afterAll, afterEach, beforeAll, describe, expect, test } from '@jest/globals'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { setTimeout as sleep } from 'node:timers/promises'
import pg from 'pg'
import { Failure } from '@tide/core/failure'
import type { CopyRange, Wait } from '../src/contract/source.ts'
import type { Session } from '../src/contract/session.ts'
import { duckdb } from '../src/duckdb/connector.ts'
import { postgres } from '../src/postgres/connector.ts'
import { insertTypes, TYPES } from './every-type.ts'
import { begin, copyAll, FOLLOWER, followToHead, openFrom, type From } from './landing.ts'
import { startRealPostgres, type RealPostgres } from './real-postgres.ts'

const SLOT = 'constant_tide_conformance'
const table = (name: string) => ({ namespace: 'public', name })

describe('a source followed by its log', () => {
  let database: RealPostgres
  let client: pg.Client
  let from: From
  let to: Session
  const folder = mkdtempSync(join(tmpdir(), 'constant-tide-test-'))
  let schemas = 0
  const landed = async (sql: string) =>
    (await to.query!(sql, limits({ maxRows: 50_000, timeoutMs: 20_000 }))).rows
  const source = async (text: string) => (await client.query({ text, rowMode: 'array' })).rows
  const open = () => postgres.open({ ...database.config, method: 'log' })
  const start = (tables: string[]) => begin(from, to, tables.map(table), `s${++schemas}`)

  beforeAll(async () => {
    database = await startRealPostgres()
    client = await database.connect()
    from = await openFrom(open)
    to = await duckdb.open({ path: join(folder, 'warehouse.duckdb') })
  })
  afterEach(async () => {
    await from.close()
    const other = await open()
    await other.log!.close('conformance')
    await other.close()
    from = await openFrom(open)
  })
  afterAll(async () => {
    await from?.close()
    await to?.close()
    await client?.end()
    await database?.close()
    rmSync(folder, { recursive: true, force: true })
  })

  test('large values that were not sent stay, also when their row moves; whole old rows tell them', async () => {
    const large = `(SELECT string_agg(md5(i::text || $1), '') FROM generate_series(1, 400) i)`
    for (const name of ['large', 'large_full'])
      await client.query(`CREATE TABLE ${name} (id int PRIMARY KEY, n int, body text)`)
    await client.query(`ALTER TABLE large_full REPLICA IDENTITY FULL`)
    for (const name of ['large', 'large_full'])
      await client.query(`INSERT INTO ${name} SELECT g, 0, ${large} || g FROM generate_series(1, 5) g`, ['a'])
    const carried = await start(['large', 'large_full'])
    await copyAll(from, to, carried)
    for (const name of ['large', 'large_full']) {
      await client.query(`UPDATE ${name} SET n = 1 WHERE id < 4`)
      await client.query(`UPDATE ${name} SET id = 30 WHERE id = 3`)
      await client.query(`UPDATE ${name} SET body = NULL WHERE id = 2`)
      await client.query(`DELETE FROM ${name} WHERE id = 1`)
    }
    await followToHead(from, to, carried)
    for (const name of ['large', 'large_full']) {
      const query = `SELECT id::text, n::text, md5(body) FROM`
      expect(await landed(`${query} s${schemas}.${name} ORDER BY ${name}.id`)).toEqual(
        await source(`${query} ${name} ORDER BY ${name}.id`),
      )
    }
  })

  test('a PostgreSQL target takes every type, odd names and moves, by the types the source has', async () => {
    await client.query(`CREATE DATABASE other`)
    const there = await postgres.open({ ...database.config, database: 'other', method: 'log' })
    try {
      await client.query(`CREATE TYPE mood AS ENUM ('well', 'so so'); CREATE DOMAIN short AS varchar(5)`)
      const columns = TYPES.map(([name, type]) => `${name} ${type}`).join(', ')
      for (const name of ['all_copied', 'all_followed'])
        await client.query(
          `CREATE TABLE ${name} (id int PRIMARY KEY, ${columns}, r int4range DEFAULT '[1,5)', s short DEFAULT 'abc', deep int[][] DEFAULT '{{1,2},{3,NULL}}')`,
        )
      await client.query(
        `CREATE TABLE "Plot / Row" ("Part No" text, "b""q" int, "Größe" text, PRIMARY KEY ("b""q", "Part No"))`,
      )
      await client.query(
        `INSERT INTO "Plot / Row" SELECT 'p' || i % 7, i / 7, 'v' || i FROM generate_series(1, 5000) i`,
      )
      const insert = (name: string) =>
        client.query(insertTypes(name, ['id', ...TYPES.map(([column]) => column)]))
      await insert('all_copied')
      const tables = ['all_copied', 'all_followed', 'Plot / Row'].map(table)
      const carried = await begin(from, there, tables, 'copy of', true)
      await copyAll(from, there, carried)
      await insert('all_followed')
      await client.query(`UPDATE "Plot / Row" SET "b""q" = "b""q" + 10000 WHERE "Part No" = 'p3'`)
      await client.query(
        `DELETE FROM "Plot / Row" WHERE "b""q" = 5; INSERT INTO "Plot / Row" VALUES ('p"2', 5, NULL)`,
      )
      await followToHead(from, there, carried)
      const reader = new pg.Client({ ...database.config, database: 'other' })
      await reader.connect()
      for (const { name } of tables) {
        const text = (schema: string) => `SELECT t::text FROM ${schema}."${name}" t ORDER BY 1`
        expect((await reader.query(text('"copy of"'))).rows).toEqual(
          (await client.query(text('public'))).rows,
        )
      }
      const types = `SELECT attname, format_type(atttypid, atttypmod) AS type FROM pg_attribute WHERE attnum > 0 AND attname <> ALL ('{e,s}') AND attrelid = $1::regclass ORDER BY 1`
      expect((await reader.query(types, ['"copy of".all_copied'])).rows).toEqual(
        (await client.query(types, ['public.all_copied'])).rows,
      )
      await reader.end()
    } finally {
      await there.close()
    }
  })

  test('partitions come as their table; generated columns are left out; an index can be the identity', async () => {
    await client.query(`
      CREATE TABLE parts (id int, day date, v text, PRIMARY KEY (id, day)) PARTITION BY RANGE (day);
      CREATE TABLE parts_25 PARTITION OF parts FOR VALUES FROM ('2025-01-01') TO ('2026-01-01');
      CREATE TABLE parts_26 (v text, day date NOT NULL, id int NOT NULL);
      ALTER TABLE parts ATTACH PARTITION parts_26 FOR VALUES FROM ('2026-01-01') TO ('2027-01-01');
      CREATE TABLE doubled (id int PRIMARY KEY, v int, twice int GENERATED ALWAYS AS (v * 2) STORED);
      CREATE TABLE by_index (id int, code text NOT NULL, v int);
      CREATE UNIQUE INDEX by_code ON by_index (code);
      ALTER TABLE by_index REPLICA IDENTITY USING INDEX by_code;
      INSERT INTO parts SELECT i, date '2025-06-01' + i, 'v' || i FROM generate_series(1, 400) i;
      INSERT INTO doubled (id, v) VALUES (1, 1);
      INSERT INTO by_index VALUES (1, 'a', 1), (NULL, 'b', 2)`)
    const { datasets } = await from.session.catalogue()
    expect(datasets.find(({ name }) => name === 'parts_25')).toMatchObject({
      key: [],
      keyNote: expect.stringMatching(/choose its table/),
    })
    expect(datasets.find(({ name }) => name === 'parts')!.unseen).toMatch(/single partition/)
    const carried = await start(['parts', 'doubled', 'by_index'])
    expect(carried.lanes.map(({ reads }) => reads.length)).toEqual([3, 2, 3])
    expect(carried.lanes[2]!.key).toEqual(['code'])
    await copyAll(from, to, carried)
    await client.query(
      `UPDATE parts SET day = day + 300, v = 'moved' WHERE id = 7; DELETE FROM parts WHERE id > 390; INSERT INTO parts VALUES (500, '2026-03-03', NULL)`,
    )
    await client.query(`UPDATE doubled SET v = 5; INSERT INTO doubled (id, v) VALUES (2, 2)`)
    await client.query(
      `UPDATE by_index SET code = 'c' WHERE code = 'b'; UPDATE by_index SET v = 9 WHERE code = 'a'`,
    )
    await client.query(`TRUNCATE parts; INSERT INTO parts VALUES (1, '2026-01-01', 'anew')`)
    await followToHead(from, to, carried)
    for (const [name, list] of [
      ['parts', 'id::text, day::text, v'],
      ['doubled', 'id::text, v::text'],
      ['by_index', 'id::text, code, v::text'],
    ] as const)
      expect([name, (await landed(`SELECT ${list} FROM s${schemas}.${name}`)).map(String).sort()]).toEqual([
        name,
        (await source(`SELECT ${list} FROM ${name}`)).map(String).sort(),
      ])
  })

  test('tables without a replica identity are refused, so that the source’s own updates go on', async () => {
    await client.query(
      `CREATE TABLE keyless (id int); CREATE TABLE nothing (id int PRIMARY KEY); ALTER TABLE nothing REPLICA IDENTITY NOTHING`,
    )
    for (const name of ['keyless', 'nothing']) {
      await expect(start([name])).rejects.toThrow(/the log does not tell which row/i)
      await expect(from.source.startCapture(FOLLOWER, [table(name)])).rejects.toMatchObject({
        kind: 'structural',
        message: expect.stringMatching(/has no replica identity/),
      })
      await client.query(`INSERT INTO ${name} VALUES (1); UPDATE ${name} SET id = 2`)
    }
  })

  test('a copy is exactly as of its position, with many ranges, whatever is written meanwhile', async () => {
    // Two rows to a page, so that there are pages for several ranges.
    await client.query(`CREATE TABLE wide (id int PRIMARY KEY, v int, pad text) WITH (fillfactor = 30)`)
    await client.query(`INSERT INTO wide SELECT i, 0, repeat('p', 1000) FROM generate_series(1, 60000) i`)
    const carried = await start(['wide'])
    const view = await from.source.view()
    await client.query(
      `UPDATE wide SET v = 1 WHERE id % 3 = 0; DELETE FROM wide WHERE id % 7 = 0; INSERT INTO wide VALUES (0, 0, '')`,
    )
    await client.query(`VACUUM wide`)
    const ranges: CopyRange[] = []
    for await (const range of view.copy(carried.source[0]!, null, new AbortController().signal))
      ranges.push(range)
    expect(ranges.length).toBeGreaterThan(3)
    const count = async ({ csv }: CopyRange) => {
      let text = ''
      for await (const part of csv) text += Buffer.from(part).toString()
      return text.split('\n').filter(line => /^\d+,0,p/.test(line)).length
    }
    // Two at a time, as the engine reads them.
    const counts: number[] = []
    for (let i = 0; i < ranges.length; i += 2)
      counts.push(...(await Promise.all(ranges.slice(i, i + 2).map(count))))
    const rows = counts.reduce((a, b) => a + b)
    expect(rows).toBe(60_000)
    // Where a range ended, another view goes on; a table that was rewritten since begins anew.
    const rest = async (after: string) => {
      let sum = 0
      for await (const range of view.copy(carried.source[0]!, after, new AbortController().signal))
        sum += await count(range)
      return sum
    }
    const behindFirst = rows - counts[0]!
    expect(await rest(ranges[0]!.upTo!)).toBe(behindFirst)
    await view.close()
    await client.query('VACUUM FULL wide')
    const after = await from.source.view()
    const again: CopyRange[] = []
    for await (const range of after.copy(carried.source[0]!, ranges[0]!.upTo, new AbortController().signal))
      again.push(range)
    let all = 0
    for (const { csv } of again)
      for await (const part of csv) all += Buffer.from(part).toString().split('\n').length - 1
    expect(all).toBe(Number((await source('SELECT count(*) FROM wide'))[0]![0]))
    await after.close()
  })

  test('a new follower gets its own beginning; the first goes on undisturbed; the last one leaves nothing behind', async () => {
    await client.query(
      `CREATE TABLE one (id int PRIMARY KEY); CREATE TABLE two (id int PRIMARY KEY); INSERT INTO two VALUES (1)`,
    )
    const first = await start(['one'])
    await copyAll(from, to, first)
    await client.query('INSERT INTO one VALUES (1); INSERT INTO two VALUES (2)')
    const began = await from.source.startCapture('second', [table('two'), table('one')])
    const view = await from.source.view()
    await client.query('INSERT INTO one VALUES (2); INSERT INTO two VALUES (3)')
    expect(view.position!.incarnation).toBe(began.incarnation)
    await view.close()
    expect((await followToHead(from, to, first)).events).toBe(2)
    await from.source.stopCapture(FOLLOWER)
    expect(await source(`SELECT count(*)::text FROM pg_replication_slots`)).toEqual([['1']])
    await from.source.stopCapture('second')
    expect(
      await source(
        `SELECT (SELECT count(*) FROM pg_replication_slots)::text, (SELECT count(*) FROM pg_publication)::text`,
      ),
    ).toEqual([['0', '0']])
  })

  test('where a slot must wait for a transaction that is open, it says for whose', async () => {
    await client.query(`CREATE TABLE waited (id int PRIMARY KEY)`)
    const idle = await database.connect()
    await idle.query(`SET application_name = 'the night shift'; BEGIN; INSERT INTO waited VALUES (1)`)
    const told: (Wait | null)[] = []
    const given = new AbortController()
    const patience = { tell: (wait: Wait | null) => void told.push(wait), signal: given.signal }
    const capturing = from.source.startCapture(FOLLOWER, [table('waited')], patience)
    for (let tries = 0; told.length === 0 && tries < 100; tries++) await sleep(100)
    expect(told[0]!.message).toMatch(/open before have ended: process \d+, .+ \(the night shift\), since 20/)
    const [, statement] = /(SELECT pg_terminate_backend\(\d+\);)/.exec(told[0]!.remedy)!
    idle.on('error', () => {}) // it is ended, as was said
    await client.query(statement!)
    await capturing
    await client.query('BEGIN; INSERT INTO waited VALUES (2)')
    told.length = 0
    const viewing = from.source.view(patience)
    for (let tries = 0; told.length === 0 && tries < 100; tries++) await sleep(100)
    expect(told[0]!.message).toMatch(/open before have ended: process/)
    given.abort()
    await expect(viewing).rejects.toBeInstanceOf(Failure)
    const later = from.source.view({ ...patience, signal: new AbortController().signal })
    await client.query('COMMIT')
    await (await later).close()
    expect(await source(`SELECT count(*)::text FROM pg_replication_slots WHERE temporary`)).toEqual([['0']])
  })

  /** The server notices only a moment after its client has gone that nobody reads the slot. */
  async function letGo() {
    const read = `SELECT FROM pg_replication_slots WHERE slot_name = '${SLOT}' AND active`
    for (let tries = 0; (await client.query(read)).rowCount! > 0; tries++) {
      if (tries === 300) throw new Error(`${SLOT} is still read`)
      await sleep(100)
    }
  }

  test.each<[string, () => Promise<unknown>, RegExp]>([
    [
      'changed columns',
      () => client.query('ALTER TABLE guarded ADD COLUMN more text; INSERT INTO guarded VALUES (9)'),
      /columns of public\.guarded were changed at the source: more is new/,
    ],
    [
      'another type',
      () => client.query('ALTER TABLE guarded ALTER COLUMN id TYPE bigint; INSERT INTO guarded VALUES (9)'),
      /columns of public\.guarded were changed at the source: id/,
    ],
    [
      'a table made anew',
      () => client.query('DROP TABLE guarded; CREATE TABLE guarded (id int PRIMARY KEY)'),
      /no longer tells of public\.guarded/,
    ],
    [
      'a slot that is gone',
      () => client.query(`SELECT pg_drop_replication_slot('${SLOT}')`),
      /slot constant_tide_conformance is gone/,
    ],
    [
      'a slot that somebody else has moved',
      () =>
        client
          .query(`INSERT INTO guarded VALUES (7)`)
          .then(() => client.query(`SELECT pg_replication_slot_advance('${SLOT}', pg_current_wal_lsn())`)),
      /was read by somebody else/,
    ],
    [
      'a source that went over to another timeline',
      async () => {
        await client.end()
        await database.failOver()
        client = await database.connect()
      },
      /goes on from another timeline/,
    ],
  ])('stops for %s', async (_, meddle, message) => {
    await client.query(`DROP TABLE IF EXISTS guarded; CREATE TABLE guarded (id int PRIMARY KEY)`)
    const carried = await start(['guarded'])
    await copyAll(from, to, carried)
    await client.query(`INSERT INTO guarded VALUES (1)`)
    expect((await followToHead(from, to, carried)).events).toBe(1)
    await from.pause() // only while nobody reads can a slot be taken away or moved
    await letGo()
    await meddle()
    await expect(followToHead(from, to, carried)).rejects.toMatchObject({
      kind: 'structural',
      message: expect.stringMatching(message),
      remedy: expect.stringMatching(/copied anew/),
    })
  })

  test('a check says what is missing, with the text to type', async () => {
    await client.query(
      `CREATE ROLE looker LOGIN PASSWORD 'x'; CREATE TABLE seen (id int, code text NOT NULL UNIQUE); GRANT SELECT ON seen TO looker`,
    )
    const items = new Map<string, { result: string; found: string; paste?: string }>()
    for await (const item of postgres.check(
      { ...database.config, user: 'looker', password: 'x', method: 'log' },
      'office',
    ))
      items.set(item.what, item)
    expect(items.get('Log level')).toMatchObject({ result: 'ok' })
    expect(items.get('Right to replicate')).toMatchObject({
      result: 'failed',
      paste: 'ALTER ROLE "looker" REPLICATION;',
    })
    expect(items.get('Publish tables')).toMatchObject({
      result: 'warning',
      paste: expect.stringMatching(/CREATE PUBLICATION "constant_tide_office"/),
    })
    expect(items.get('Replica identity')).toMatchObject({
      result: 'warning',
      paste: 'ALTER TABLE "public"."seen" REPLICA IDENTITY USING INDEX "seen_code_key";',
    })
    // The script of least rights is enough.
    const script = items
      .get('Least rights')!
      .paste!.replaceAll('my_schema', 'public')
      .replace('public.my_table', 'public.one')
    await client.query(script)
    const tide = { ...database.config, user: 'constant_tide', password: 'choose one', method: 'log' }
    const least = await postgres.open(tide)
    await least.log!.open('office', [table('one')])
    await (await least.log!.view('office')).close()
    await least.log!.close('office')
    await least.close()
  })
})
