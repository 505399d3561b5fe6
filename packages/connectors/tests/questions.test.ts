import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import type { Config, Connector, Session, StreamLimits } from '../src/contract/session.ts'
import { duckdb } from '../src/duckdb/connector.ts'
import { lease } from '../src/duckdb/instance.ts'
import { mariadb } from '../src/mariadb/connector.ts'
import { postgres } from '../src/postgres/connector.ts'
import { limits } from './limits.ts'
import { startRealMariadb } from './real-mariadb.ts'
import { startRealPostgres } from './real-postgres.ts'

interface Asked {
  session: Session
  /** What there is to be changed, in words. */
  state(): Promise<string>
  /** How many statements of others the system works on. */
  busy(): Promise<number>
  /** The system with an administrator's settings, and how to carry a script out there. */
  guarded?: { connector: Connector; config: Config; run(script: string): Promise<void> }
  close(): Promise<void>
}

interface System {
  start(): Promise<Asked>
  /** Questions, with what they answer first. */
  asks: [sql: string, answer: string | null | RegExp][]
  refuses: [sql: string, named: RegExp][]
  endless: string
  /** Rows of about a megabyte each. */
  large: string
  /** One value that is larger than any answer may be. */
  huge: string
  /** Numbers from 1 to 3,000, as `n`. */
  numbers: string
}

const trays = [
  'CREATE TABLE trays (id int PRIMARY KEY, label varchar(20))',
  "INSERT INTO trays VALUES (1, 'kale'), (2, 'chard')",
]

async function askPostgres(): Promise<Asked> {
  const server = await startRealPostgres()
  const client = await server.connect()
  for (const sql of [
    ...trays,
    'CREATE SEQUENCE numbers',
    `CREATE FUNCTION own() RETURNS int LANGUAGE sql AS 'SELECT 1'`,
  ])
    await client.query(sql)
  await client.query(`SELECT pg_create_physical_replication_slot('kept')`)
  const one = async (sql: string) => String(Object.values((await client.query(sql)).rows[0]!).join(' '))
  return {
    session: await postgres.open({ ...server.config, method: 'log' }),
    guarded: {
      connector: postgres,
      config: { ...server.config, method: 'cursor' },
      run: async script => void (await client.query(script)),
    },
    state: () =>
      one(
        `SELECT (SELECT string_agg(t::text, ';' ORDER BY id) FROM trays t), (SELECT last_value || is_called::text FROM numbers),
                (SELECT string_agg(slot_name, ',') FROM pg_replication_slots), (SELECT count(*) FROM pg_class WHERE relnamespace = 'public'::regnamespace),
                (SELECT count(*) FROM pg_locks WHERE locktype = 'advisory')`,
      ),
    busy: async () =>
      Number(
        await one(
          `SELECT count(*) FROM pg_stat_activity WHERE backend_type = 'client backend' AND state = 'active' AND pid <> pg_backend_pid()`,
        ),
      ),
    close: () => client.end().then(() => server.close()),
  }
}

async function askMariadb(): Promise<Asked> {
  const server = await startRealMariadb()
  const client = await server.connect()
  for (const sql of [
    'USE site',
    ...trays,
    'CREATE SEQUENCE numbers',
    'CREATE FUNCTION own() RETURNS int DETERMINISTIC RETURN 1',
  ])
    await client.run(sql)
  const text = async (sql: string) => JSON.stringify(await client.arrays(sql))
  return {
    session: await mariadb.open({ ...server.config }),
    guarded: {
      connector: mariadb,
      config: { ...server.config },
      run: async script => {
        for (const statement of script.split(';\n')) await client.run(statement)
      },
    },
    state: async () =>
      [
        await text('SELECT * FROM site.trays ORDER BY id'),
        await text('SELECT next_not_cached_value FROM site.numbers'),
        await text('SHOW DATABASES'),
        await text('SHOW BINARY LOGS').then(logs => logs.split('],').length),
      ].join(),
    busy: async () =>
      Number(
        (
          await client.arrays(
            `SELECT count(*) FROM information_schema.processlist WHERE command = 'Query' AND id <> connection_id()`,
          )
        )[0]![0],
      ),
    close: () => client.close().then(() => server.close()),
  }
}

async function askDuckdb(): Promise<Asked> {
  const folder = mkdtempSync(join(tmpdir(), 'constant-tide-test-'))
  const path = join(folder, 'w.duckdb')
  const held = await lease(path)
  const writer = await held.connect()
  for (const sql of [...trays, 'CREATE SEQUENCE numbers', 'CREATE MACRO own() AS 1']) await writer.run(sql)
  return {
    session: await duckdb.open({ path }),
    state: async () =>
      JSON.stringify([
        await writer.ask('SELECT * FROM trays ORDER BY id'),
        await writer.ask('SELECT last_value FROM duckdb_sequences()'),
        await writer.ask(
          `SELECT name, value FROM duckdb_settings() WHERE name NOT IN ('profiling_mode') ORDER BY 1`,
        ),
        await writer.ask('SELECT count(*) FROM duckdb_tables()'),
      ]),
    busy: async () => 0,
    close: async () => {
      await held.disconnect(writer)
      await held.release()
      rmSync(folder, { recursive: true, force: true })
    },
  }
}

const COMMON: System['refuses'] = [
  ['DELETE FROM trays', /DELETE/],
  ['UPDATE trays SET id = 3', /UPDATE/],
  ["INSERT INTO trays VALUES (3, 'x')", /INSERT/],
  ['DROP TABLE trays', /DROP/],
  ['SELECT 1; DELETE FROM trays', /2 statements/],
  ['', /no statement|SELECT|empty/i],
  ['SELECT own()', /own\(\)/],
  ['SELECT FROM WHERE', /syntax|FROM/i],
]

const SYSTEMS: [string, System][] = [
  [
    'PostgreSQL',
    {
      start: askPostgres,
      asks: [
        [`WITH t AS (SELECT * FROM trays) SELECT upper(label) FROM t ORDER BY id; -- all of it`, 'KALE'],
        [`SELECT count(*) FILTER (WHERE id > 1) OVER (PARTITION BY label ORDER BY id) FROM trays`, /[01]/],
        [`SELECT pg_catalog.lower('A') || extract(year FROM date '2026-05-04') || 'x'::text`, 'a2026x'],
        [`VALUES (array[1,2]::int[])`, '{1,2}'],
        [`EXPLAIN SELECT * FROM trays`, /Scan/],
        [`SHOW server_version_num`, /^\d+$/],
        [`SELECT 'a\\' || ';' || $$ DROP $$`, 'a\\; DROP '],
      ],
      refuses: [
        ...COMMON,
        [`SELECT pg_terminate_backend(1)`, /pg_terminate_backend/],
        [`SELECT pg_catalog.pg_drop_replication_slot('kept')`, /pg_drop_replication_slot/],
        [`SELECT * FROM trays FOR UPDATE`, /FOR UPDATE/],
        [`SELECT * INTO copied FROM trays`, /INTO/],
        [`WITH gone AS (DELETE FROM trays RETURNING *) SELECT * FROM gone`, /DELETE/],
        [`EXPLAIN ANALYZE SELECT 1`, /ANALYZE/],
        [`EXPLAIN (COSTS, ANALYZE) DELETE FROM trays`, /ANALYZE/],
        [`EXPLAIN DELETE FROM trays`, /DELETE/],
        [`SELECT nextval('numbers')`, /nextval/],
        [`SELECT pg_read_file('/etc/passwd')`, /pg_read_file/],
        [`SELECT query_to_xml('SELECT pg_terminate_backend(1)', true, true, '')`, /query_to_xml/],
        [`SELECT set_config('statement_timeout', '0', false)`, /set_config/],
        [`SELECT pg_advisory_lock(1), pg_sleep(100)`, /pg_/],
        [`SELECT 1 OPERATOR(public.+) 2`, /public/],
        [`SELECT public.own()`, /public\.own/],
        [`COPY trays TO PROGRAM 'id'`, /COPY/],
        [`DO $$ BEGIN PERFORM 1; END $$`, /DO/],
        [`SET statement_timeout = 0`, /SET/],
        [`SELECT $1`, /parameter/],
        [`SELECT ${'1+'.repeat(40_000)}1`, /nested too deeply/],
      ],
      endless: 'SELECT count(*) FROM generate_series(1, 3000000000)',
      large: `SELECT i, repeat('x', 1000000) FROM generate_series(1, 30) i`,
      huge: `SELECT repeat('x', 60000000)`,
      numbers: 'SELECT generate_series(1, 3000) AS n',
    },
  ],
  [
    'MariaDB',
    {
      start: askMariadb,
      asks: [
        ['WITH t (a, b) AS (SELECT * FROM trays) SELECT UPPER(b) FROM t ORDER BY a; # all of it', 'KALE'],
        [
          'SELECT \'DROP; -- INTO\', "FOR UPDATE" /* sleep(1) */ FROM `trays` WHERE id IN (1)',
          'DROP; -- INTO',
        ],
        ['(SELECT count(*) FROM trays) UNION ALL SELECT CAST(3 AS DECIMAL(10,2))', '2.00'],
        ['EXPLAIN SELECT * FROM trays', /\d/],
        ['DESCRIBE trays', 'id'],
        ["SHOW VARIABLES LIKE 'version'", 'version'],
        ['SELECT IF(1, ROW_NUMBER() OVER (ORDER BY id), 2) FROM trays', '1'],
      ],
      refuses: [
        ...COMMON,
        ['DROP DATABASE site', /DROP/],
        ['TRUNCATE trays', /TRUNCATE/],
        ["SET PASSWORD = PASSWORD('x')", /SET/],
        ['RESET MASTER', /RESET/],
        ["SELECT * FROM trays INTO OUTFILE '/tmp/trays'", /INTO/],
        ['BEGIN NOT ATOMIC DELETE FROM trays; END', /BEGIN|statements/],
        ['SET STATEMENT max_statement_time = 0 FOR SELECT 1', /SET/],
        ['SELECT sleep(100)', /sleep/],
        ['SELECT SLEEP /* x */ (100)', /SLEEP/],
        ["SELECT benchmark(1000000000, md5('x'))", /benchmark/],
        ["SELECT get_lock('x', 1)", /get_lock/],
        ["SELECT load_file('/etc/passwd')", /load_file/],
        ['SELECT @a := 1', /:=/],
        ['SELECT 1 /*!50000 INTO OUTFILE "/tmp/x" */', /carries out/],
        ['SELECT 1 /*M! , sleep(1) */', /carries out/],
        ['SELECT NEXT VALUE FOR numbers', /NEXT VALUE/],
        ['SELECT nextval(numbers)', /nextval/],
        ['SELECT site.own()', /site\.own/],
        ['SELECT `own`()', /own/],
        ['SELECT * FROM trays FOR UPDATE', /FOR UPDATE/],
        ['SELECT * FROM trays LOCK IN SHARE MODE', /LOCK IN/],
        ['ANALYZE SELECT 1', /ANALYZE/],
        ['EXPLAIN DELETE FROM trays', /EXPLAIN DELETE/],
        ['CALL p()', /CALL/],
        ['HANDLER trays OPEN', /HANDLER/],
        ['WITH t AS (SELECT 1) DELETE FROM trays', /DELETE is not taken/],
        ['WITH t AS (SELECT 1) UPDATE trays SET id = 9', /UPDATE is not taken/],
      ],
      endless:
        'SELECT count(*) FROM information_schema.columns a, information_schema.columns b, information_schema.columns c',
      large: `SELECT seq, REPEAT('x', 1000000) FROM seq_1_to_30`,
      huge: `SELECT CONCAT(REPEAT('x', 15000000), id) FROM trays`,
      numbers: 'SELECT seq AS n FROM seq_1_to_3000',
    },
  ],
  [
    'DuckDB',
    {
      start: askDuckdb,
      asks: [
        ['WITH t AS (FROM trays) SELECT upper(label) FROM t ORDER BY id; -- all of it', 'KALE'],
        ["SELECT list_transform([1, 2], lambda x: x + 1), {'a': 1}.a, 'DROP; --'", '[2, 3]'],
        ['SELECT count(*) FROM range(10) r(i), main.trays', '20'],
        ['DESCRIBE trays', 'id'],
        ['SUMMARIZE trays', 'id'],
        ['SHOW TABLES', 'trays'],
        ['EXPLAIN SELECT * FROM trays', /plan/],
        ['SELECT table_name FROM information_schema.tables ORDER BY 1', /trays|checkpoint/],
        ['SELECT max(id) OVER (), count(*) FILTER (WHERE id > 1) OVER () FROM trays', '2'],
      ],
      refuses: [
        ...COMMON,
        ["EXPLAIN ANALYZE COPY trays TO '/tmp/over'", /EXPLAIN ANALYZE/],
        ['EXPLAIN ANALYZE SET GLOBAL threads = 1', /EXPLAIN ANALYZE/],
        ['EXPLAIN (ANALYZE) DELETE FROM trays', /EXPLAIN/],
        ["SELECT * FROM enable_logging('x')", /enable_logging/],
        ['SELECT * FROM checkpoint()', /checkpoint/],
        ['SELECT * FROM enable_profiling()', /enable_profiling/],
        ["SELECT * FROM read_text('/etc/passwd')", /read_text/],
        ["SELECT * FROM '/etc/passwd'", /no table/],
        ['WITH "/etc/passwd" AS (SELECT 1) SELECT (SELECT 1 FROM \'/etc/passwd\')', /no table/],
        ["SELECT * FROM query('DROP TABLE trays')", /query/],
        ["SELECT * FROM json_execute_serialized_sql('x')", /json_execute/],
        ["SELECT nextval('numbers')", /nextval/],
        ["SELECT nextval('numbers') OVER ()", /nextval/],
        ['SELECT len(range(100000000))', /range/],
        ["SELECT length(repeat('x', 4000000000))", /repeat/],
        ['SELECT setseed(0.5)', /setseed/],
        ['SELECT write_log(1)', /write_log/],
        ['PRAGMA database_list', /PRAGMA/],
        ["ATTACH '/tmp/other.duckdb'", /ATTACH/],
        ["COPY trays TO '/tmp/stolen.csv'", /COPY/],
        ["SET memory_limit = '1TB'", /SET/],
        ['CALL duckdb_tables()', /CALL/],
        ['SELECT $1', /parameter/],
        ['SELECT system.main.own()', /own/],
      ],
      endless:
        'SELECT count(*) FROM range(1000000) a(i), range(1000000) b(i), range(1000) c(i) WHERE a.i + b.i = c.i - 1',
      large: `SELECT i, array_to_string(list_transform([1,2,3,4,5,6,7,8], lambda x: md5(i::VARCHAR || x) ), '') || (SELECT string_agg(md5(j::VARCHAR), '') FROM range(31000) s(j)) FROM range(30) r(i)`,
      huge: `SELECT string_agg(md5(j::VARCHAR), '') FROM range(600000) s(j)`,
      numbers: 'SELECT n FROM range(1, 3001) r(n)',
    },
  ],
]

describe.each(SYSTEMS)('questions to %s', (_, system) => {
  let asked: Asked
  const ask = (sql: string, changed = {}) => asked.session.query!(sql, limits(changed))
  beforeAll(async () => (asked = await system.start()), 60_000)
  afterAll(async () => {
    await asked.session.close()
    await asked.close()
  })

  test.each(system.asks)('%s', async (sql, answer) => {
    const { rows } = await ask(sql)
    if (answer instanceof RegExp) expect(String(rows[0]![0])).toMatch(answer)
    else expect(rows[0]![0]).toBe(answer)
  })

  test('what is no question is refused by name, and changes nothing', async () => {
    const before = await asked.state()
    const wrong: string[] = []
    for (const [sql, named] of system.refuses) {
      const said = await ask(sql).then(
        () => 'it was answered',
        (error: { kind?: string; message: string }) => `${error.kind}: ${error.message}`,
      )
      if (!said.startsWith('refused: ') || !named.test(said)) wrong.push(`${sql.slice(0, 80)}: ${said}`)
      if ((await asked.state()) !== before) wrong.push(`${sql.slice(0, 80)}: it has changed something`)
    }
    expect(wrong).toEqual([])
  })

  test('rows and bytes are cut on their way', async () => {
    expect(await ask('SELECT id FROM trays ORDER BY id', { maxRows: 1 })).toMatchObject({
      rows: [['1']],
      cut: 'rows',
      total: null,
    })
    const { rows, cut } = await ask(system.large, { timeoutMs: 30_000 })
    expect(cut).toBe('bytes')
    expect(rows.length).toBeGreaterThan(3)
    expect(rows.length).toBeLessThan(9)
    await expect(ask(system.huge, { timeoutMs: 30_000 })).rejects.toMatchObject({
      message: expect.stringContaining('larger than 8 MB'),
    })
  }, 60_000)

  test('time, and who leaves, end it at the system, too', async () => {
    await expect(ask(system.endless, { timeoutMs: 700 })).rejects.toMatchObject({
      message: expect.stringContaining('stopped after 1 s'),
    })
    const leaving = new AbortController()
    const asking = ask(system.endless, { timeoutMs: 60_000, signal: leaving.signal })
    setTimeout(() => leaving.abort(), 500)
    await expect(asking).rejects.toMatchObject({ message: expect.stringContaining('given up') })
    for (let tries = 0; (await asked.busy()) > 0; tries++) {
      expect(tries).toBeLessThan(50)
      await new Promise(resolve => setTimeout(resolve, 100))
    }
  }, 60_000)

  test('rows come batch by batch for as long as somebody takes them; then the system is left in peace', async () => {
    const stream = (sql: string, changed: Partial<StreamLimits> = {}) =>
      asked.session.stream!(sql, {
        batchRows: 400,
        timeoutMs: 30_000,
        signal: new AbortController().signal,
        ...changed,
      })
    const rows: (string | null)[][] = []
    const sizes: number[] = []
    for await (const batch of stream(`SELECT n, n + 1 AS next FROM (${system.numbers}) numbers ORDER BY n`)) {
      expect(batch.columns.map(({ name }) => name)).toEqual(['n', 'next'])
      rows.push(...batch.rows)
      sizes.push(batch.rows.length)
    }
    expect(rows).toHaveLength(3_000)
    expect([rows[0], rows[2_999]]).toEqual([
      ['1', '2'],
      ['3000', '3001'],
    ])
    expect(Math.max(...sizes)).toBeLessThanOrEqual(400)
    // As much as a whole answer may never hold.
    let bytes = 0
    for await (const batch of stream(system.large))
      for (const row of batch.rows) bytes += String(row[1]).length
    expect(bytes).toBeGreaterThan(20_000_000)
    for await (const batch of stream(`SELECT a.n FROM (${system.numbers}) a, (${system.numbers}) b`)) {
      expect(batch.rows.length).toBeGreaterThan(0)
      break
    }
    const leaving = new AbortController()
    setTimeout(() => leaving.abort(), 500)
    const waiting = stream(system.endless, { signal: leaving.signal }).next()
    await expect(waiting).rejects.toMatchObject({ message: expect.stringContaining('given up') })
    await expect(stream(system.endless, { timeoutMs: 700 }).next()).rejects.toMatchObject({
      message: expect.stringContaining('stopped after 1 s'),
    })
    await expect(stream('DROP TABLE trays').next()).rejects.toMatchObject({ kind: 'refused' })
    for (let tries = 0; (await asked.busy()) > 0; tries++) {
      expect(tries).toBeLessThan(50)
      await new Promise(resolve => setTimeout(resolve, 100))
    }
    expect((await ask('SELECT count(*) FROM trays')).rows).toEqual([['2']])
  }, 90_000)

  test('the check tells an account that could write, and how to make one that cannot', async () => {
    if (!asked.guarded) return expect(asked.session.heldAlone).toBeDefined() // a file has no accounts
    const { connector, config, run } = asked.guarded
    const itemOf = async (settings: Config) => {
      for await (const item of connector.check(settings)) if (item.what === 'Reading account') return item
      return undefined
    }
    const found = await itemOf(config)
    expect(found).toMatchObject({
      result: 'warning',
      found: expect.stringMatching(/could do more than read/),
    })
    await run(found!.paste!.replaceAll('choose one', 'for looks'))
    const reading = { ...config, readingUser: 'constant_tide_reading', readingPassword: 'for looks' }
    expect(await itemOf(reading)).toMatchObject({ result: 'ok' })
    expect(await itemOf({ ...reading, readingPassword: 'wrong' })).toMatchObject({ result: 'failed' })
    const session = await connector.open(reading)
    const { rows } = await session.query!('SELECT current_user, label FROM trays WHERE id = 1', limits())
    expect(rows[0]![0]).toMatch(/^constant_tide_reading/)
    await session.close()
  })

  test('many at once do not wait for each other, and what is previewed has the same limits', async () => {
    const all = Array.from({ length: 8 }, () => ask('SELECT 1'))
    expect((await Promise.all(all)).map(({ rows }) => rows[0]![0])).toEqual(Array(8).fill('1'))
    const { datasets } = await asked.session.catalogue()
    const table = datasets.find(({ name }) => name === 'trays')!
    expect(await asked.session.preview(table, limits({ maxRows: 1 }))).toMatchObject({
      rows: [['1', 'kale']],
      cut: 'rows',
    })
    expect(await asked.session.count(table, limits())).toBe(2)
  })
})
