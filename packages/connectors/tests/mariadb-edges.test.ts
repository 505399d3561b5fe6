/** What once put wrong rows into targets, or hung, with MariaDB as the source. */
import { limits } from './limits.ts'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { createReadStream, mkdtempSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import type { Session as OpenSession } from '../src/contract/session.ts'
import { duckdb } from '../src/duckdb/connector.ts'
import type { Session } from '../src/mariadb/client.ts'
import { mariadb } from '../src/mariadb/connector.ts'
import { readCharsets } from '../src/mariadb/log/charsets.ts'
import { begin, copyAll, followToHead, openFrom, type From } from './landing.ts'
import { startRealMariadb, type RealMariadb } from './real-mariadb.ts'

describe('MariaDB at the edges', () => {
  let server: RealMariadb
  let client: Session
  let warehouse: OpenSession
  const folder = mkdtempSync(join(tmpdir(), 'constant-tide-test-'))
  let schemas = 0
  const open = () => mariadb.open({ ...server.config })
  const table = (name: string) => ({ namespace: 'site', name })
  const run = async (...statements: string[]) => {
    for (const statement of statements) await client.run(statement)
  }
  const landed = async (sql: string) =>
    (await warehouse.query!(sql, limits({ maxRows: 5000, timeoutMs: 20_000 }))).rows
  const following = async (
    tables: string[],
    body: (from: From, land: () => Promise<unknown>, schema: string) => Promise<void>,
  ) => {
    const from = await openFrom(open)
    try {
      const schema = `s${++schemas}`
      const carried = await begin(from, warehouse, tables.map(table), schema)
      await copyAll(from, warehouse, carried)
      await body(from, () => followToHead(from, warehouse, carried), schema)
    } finally {
      await from.close()
    }
  }

  beforeAll(async () => {
    server = await startRealMariadb()
    client = await server.connect()
    await client.run('USE site')
    warehouse = await duckdb.open({ path: join(folder, 'warehouse.duckdb') })
  }, 120_000)
  afterAll(async () => {
    await warehouse?.close()
    await client?.close()
    await server?.close()
    rmSync(folder, { recursive: true, force: true })
  })

  test('who asks over a connection that was cut is told, in whatever way the rows were to come', async () => {
    const readAll = async (rows: () => AsyncIterable<unknown>) => {
      let count = 0
      for await (const row of rows()) count += row ? 1 : 0
      return count
    }
    const ways: [string, (session: Session) => Promise<unknown>][] = [
      ['at once', session => session.arrays('SELECT 1')],
      [
        'row by row',
        session =>
          session.eachRow(
            'SELECT 1',
            () => {},
            () => true,
          ),
      ],
      ['as a stream', session => readAll(() => session.stream('SELECT 1', () => {}))],
      ['as bytes', session => readAll(() => session.buffers('SELECT 1'))],
    ]
    const outcome = (asked: Promise<unknown>) => {
      const late = new Promise(resolve => setTimeout(resolve, 3000, 'unanswered').unref())
      return Promise.race([
        asked.then(
          () => 'answered',
          () => 'refused',
        ),
        late,
      ])
    }
    const cuts: [string, (session: Session) => Promise<unknown>][] = [
      ['while it lay idle', session => run(`KILL CONNECTION ${session.connection.threadId}`)],
      [
        'during a question',
        async session => {
          const asked = outcome(session.run('DO SLEEP(30)'))
          await run(`KILL CONNECTION ${session.connection.threadId}`)
          expect(await asked).toBe('refused')
        },
      ],
      [
        'by us',
        async session => {
          const asked = [
            outcome(session.run('DO SLEEP(30)')),
            outcome(readAll(() => session.buffers('SELECT SLEEP(30)'))),
          ]
          session.destroy()
          expect(await Promise.all(asked)).toEqual(['refused', 'refused'])
        },
      ],
    ]
    const found: string[] = []
    for (const [when, cut] of cuts) {
      for (const [how, ask] of ways) {
        const session = await server.connect()
        await cut(session)
        await new Promise(resolve => setTimeout(resolve, 50))
        found.push(`${when}, ${how}: ${await outcome(ask(session))}`)
        expect(await outcome(session.close())).toBe('answered')
      }
    }
    expect(found.filter(one => !one.endsWith('refused'))).toEqual([])
  }, 60_000)

  test('a key of which only a part is in the index is refused, never shortened; another whole one is taken', async () => {
    await run(
      'CREATE TABLE prefixed (tenant int, name varchar(200), v int, PRIMARY KEY (tenant, name(20)))',
      'CREATE TABLE both_ways (tenant int, name varchar(200), code char(5) NOT NULL UNIQUE, PRIMARY KEY (tenant, name(20)))',
    )
    const session = await open()
    const { datasets } = await session.catalogue()
    await session.close()
    expect(datasets.find(({ name }) => name === 'prefixed')).toMatchObject({
      key: [],
      keyNote: expect.stringContaining('only the first 20 characters of name'),
    })
    expect(datasets.find(({ name }) => name === 'both_ways')!.key).toEqual(['code'])
  })

  test('rows that a foreign key changes by itself are not in the log: such a table is refused', async () => {
    await run(
      'CREATE TABLE parents (id int PRIMARY KEY)',
      'CREATE TABLE children (id int PRIMARY KEY, parent int, FOREIGN KEY (parent) REFERENCES parents (id) ON DELETE CASCADE)',
    )
    const session = await open()
    const { datasets } = await session.catalogue()
    await session.close()
    expect(datasets.find(({ name }) => name === 'children')!.notFollowed).toMatch(/ON DELETE/)
    expect(datasets.find(({ name }) => name === 'parents')!.notFollowed).toBeUndefined()
  })

  test('what is prepared lands when it is committed, from wherever and over a restart; what is rolled back does not', async () => {
    await run('CREATE TABLE xa (id int PRIMARY KEY)')
    // Prepared before anybody follows.
    const other = await server.connect()
    await other.run('USE site')
    for (const sql of [
      `XA START 'before'`,
      'INSERT INTO xa VALUES (1)',
      `XA END 'before'`,
      `XA PREPARE 'before'`,
    ])
      await other.run(sql)
    other.destroy()
    await following(['xa'], async (from, land, schema) => {
      const xa = (name: string, id: number) => [
        `XA START '${name}'`,
        `INSERT INTO xa VALUES (${id})`,
        `XA END '${name}'`,
        `XA PREPARE '${name}'`,
      ]
      await run(...xa('gone', 2), `XA ROLLBACK 'gone'`)
      await run(...xa('here', 3), `XA COMMIT 'here'`)
      await run(`XA START 'one'`, 'INSERT INTO xa VALUES (4)', `XA END 'one'`, `XA COMMIT 'one' ONE PHASE`)
      const later = await server.connect()
      await later.run('USE site')
      for (const sql of xa('later', 5)) await later.run(sql)
      later.destroy()
      await run('INSERT INTO xa VALUES (6)')
      await land()
      expect(await landed(`SELECT id FROM ${schema}.xa ORDER BY 1`)).toEqual([['3'], ['4'], ['6']])
      // The reader begins again behind what is prepared.
      await from.pause()
      await server.restart()
      client = await server.connect()
      await client.run('USE site')
      await run('FLUSH BINARY LOGS', `XA COMMIT 'later'`, `XA COMMIT 'before'`, 'INSERT INTO xa VALUES (7)')
      await land()
      expect(await landed(`SELECT id FROM ${schema}.xa ORDER BY 1`)).toEqual(
        ['1', '3', '4', '5', '6', '7'].map(id => [id]),
      )
    })
  })

  test('keys that the source tells apart stay apart in another MariaDB, by the source’s own judgement', async () => {
    await run(
      `CREATE TABLE collated (id varchar(20) COLLATE utf8mb4_bin PRIMARY KEY, v varchar(5) CHARACTER SET latin1)`,
      `INSERT INTO collated VALUES ('a', 'ä'), ('A', 'ö'), ('b\\\\', 'ü')`,
    )
    const [from, to] = [await openFrom(open), await open()]
    const carried = await begin(from, to, [table('collated')], 'collated_there', true)
    await copyAll(from, to, carried)
    await run(`UPDATE collated SET v = 'é' WHERE id = 'A'`, `DELETE FROM collated WHERE id = 'b\\\\'`)
    await run(`INSERT INTO collated VALUES ('ab\\\\c', 'x')`)
    await followToHead(from, to, carried)
    const rows = `SELECT id, v FROM collated ORDER BY id`
    expect(await client.arrays(rows.replace('collated', 'collated_there.collated'))).toEqual(
      await client.arrays(rows),
    )
    const key = {
      dataset: table('collated'),
      key: ['id'],
      columns: [{ name: 'id', type: { kind: 'utf8' as const }, nativeType: 'varchar(20)' }],
    }
    expect(await to.row(key, ['ab\\c'])).toEqual(['ab\\c'])
    await from.close()
    await to.close()
  })

  test('compressed columns and columns that are left out do not disturb those beside them', async () => {
    await run(
      `CREATE TABLE mixed (id int PRIMARY KEY, a varchar(3000) COMPRESSED, b text COMPRESSED CHARACTER SET latin1, g point, c blob COMPRESSED, z varchar(9) CHARACTER SET swe7)`,
    )
    await following(['mixed'], async (_, land, schema) => {
      await run(
        `INSERT INTO mixed VALUES (1, REPEAT('größer ', 300), 'ä', ST_GeomFromText('POINT(1 2)'), REPEAT(x'00ff', 500), 'Åse'), (2, '', NULL, NULL, '', '')`,
      )
      await land()
      expect(await landed(`SELECT id, md5(a), b, md5(c), z FROM ${schema}.mixed ORDER BY 1`)).toEqual(
        await client.arrays(
          `SELECT id, md5(CONVERT(a USING utf8mb4)), b, md5(c), CONVERT(z USING utf8mb4) FROM mixed ORDER BY 1`,
        ),
      )
    })
  })

  test.each([
    ['SET STATEMENT', ['SET STATEMENT max_statement_time = 9 FOR INSERT INTO dressed VALUES (2)']],
    ['a comment that is carried out', ['/*!50000 INSERT */ INTO dressed VALUES (2)']],
    ['a prepared statement', [`PREPARE p FROM 'INSERT INTO dressed VALUES (2)'`, 'EXECUTE p']],
    ['a function', ['SELECT grow()']],
    [
      'a temporary table',
      ['CREATE TEMPORARY TABLE t SELECT 2 AS id', 'INSERT INTO dressed SELECT id FROM t'],
    ],
    ['a file', [`LOAD DATA LOCAL INFILE 'x' INTO TABLE dressed`]],
  ])('a statement in place of rows is never passed over, dressed as %s', async (_, statements) => {
    await run(
      'SET GLOBAL log_bin_trust_function_creators = ON',
      'DROP TABLE IF EXISTS dressed',
      'DROP FUNCTION IF EXISTS grow',
      'CREATE TABLE dressed (id int PRIMARY KEY)',
      'CREATE FUNCTION grow() RETURNS int NOT DETERMINISTIC MODIFIES SQL DATA BEGIN INSERT INTO dressed VALUES (2); RETURN 1; END',
    )
    await following(['dressed'], async (_from, land) => {
      const { createConnection } = await import('mysql2/promise')
      const { host, port, user, password, database } = server.config
      const file = join(folder, 'rows.txt')
      writeFileSync(file, '2\n')
      const raw = await createConnection({
        host,
        port,
        user,
        password,
        database,
        flags: ['+LOCAL_FILES'],
        infileStreamFactory: () => createReadStream(file),
      })
      await raw.query(`SET SESSION binlog_format = 'STATEMENT'`)
      for (const sql of statements) await raw.query(sql)
      await raw.end()
      await expect(land()).rejects.toMatchObject({
        kind: 'structural',
        message: expect.stringMatching(/tells a statement instead of its rows/),
      })
    })
  })

  test('a table emptied before any of its rows was told is emptied at the target', async () => {
    await run('CREATE TABLE emptied (id int PRIMARY KEY)', 'INSERT INTO emptied VALUES (1), (2)')
    await following(['emptied'], async (from, land, schema) => {
      await land()
      await from.pause()
      await run(
        'SET STATEMENT lock_wait_timeout = 9 FOR TRUNCATE TABLE emptied',
        'INSERT INTO emptied VALUES (3)',
      )
      await land()
      expect(await landed(`SELECT id FROM ${schema}.emptied`)).toEqual([['3']])
    })
  })

  test('texts of every character set are read as the server itself reads them', async () => {
    const asian = ['sjis', 'cp932', 'ujis', 'eucjpms', 'euckr', 'gb2312', 'gbk', 'big5']
    const decoders = await readCharsets(client, new Set(asian))
    const sets = await client.arrays(
      `SELECT character_set_name, min(id) FROM information_schema.collation_character_set_applicability
        WHERE id IS NOT NULL AND character_set_name <> 'binary' GROUP BY 1`,
    )
    expect(sets.length).toBeGreaterThan(35)
    // Of those behind the letters and signs, most are alike; every fourth of them will do.
    const letters = Array.from({ length: 0x10000 - 0x20 }, (_, i) => 0x20 + i).filter(
      i => (i < 0xd800 || i > 0xdfff) && (i < 0x3100 || i > 0xf8ff || i % 4 === 1),
    )
    await run('CREATE TEMPORARY TABLE letters (c varchar(1) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin)')
    for (let at = 0; at < letters.length; at += 5000) {
      const some = letters
        .slice(at, at + 5000)
        .map(i => `(_utf8mb4 x'${Buffer.from(String.fromCharCode(i)).toString('hex')}')`)
      await run(`INSERT INTO letters VALUES ${some.join(', ')}`)
    }
    const wrong: string[] = []
    for (const [charset, id] of sets) {
      const rows = await client.arrays(
        `SELECT HEX(b), HEX(CONVERT(b USING utf8mb4)) FROM (SELECT CONVERT(c USING ${charset}) AS b FROM letters) t`,
      )
      const decode = decoders.get(Number(id))!
      for (const [bytes, text] of rows) {
        const read = Buffer.from(decode(Buffer.from(bytes!, 'hex')))
          .toString('hex')
          .toUpperCase()
        if (read !== text) wrong.push(`${charset} ${bytes}: ${read} instead of ${text}`)
      }
    }
    expect(wrong).toEqual([])
  })
})
