import { limits } from './limits.ts'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { datasetId } from '@tide/core/records/dataset'
import type { Row } from '@tide/core/records/value'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import type { Session as OpenSession } from '../src/contract/session.ts'
import { duckdb } from '../src/duckdb/connector.ts'
import type { Session } from '../src/mariadb/client.ts'
import { mariadb } from '../src/mariadb/connector.ts'
import { readStatement } from '../src/mariadb/log/statements.ts'
import { postgres } from '../src/postgres/connector.ts'
import { insertMariaTypes, MARIA_ROWS, MARIA_TYPES } from './every-maria-type.ts'
import { begin, copyAll, followToHead, openFrom, type Carried, type From } from './landing.ts'
import { startRealMariadb, type RealMariadb } from './real-mariadb.ts'
import { startRealPostgres, type RealPostgres } from './real-postgres.ts'

describe('MariaDB', () => {
  let server: RealMariadb
  let other: RealPostgres
  let client: Session
  let from: From
  let warehouse: OpenSession
  const folder = mkdtempSync(join(tmpdir(), 'constant-tide-test-'))
  let schemas = 0
  const open = () => mariadb.open({ ...server.config })
  const table = (name: string) => ({ namespace: 'site', name })
  const start = (to: OpenSession, tables: string[], sameKind = false) =>
    begin(from, to, tables.map(table), `s${++schemas}`, sameKind)
  const run = async (...statements: string[]) => {
    for (const statement of statements) await client.run(statement)
  }

  beforeAll(async () => {
    server = await startRealMariadb()
    other = await startRealPostgres()
    client = await server.connect()
    await client.run('USE site')
    from = await openFrom(open)
    warehouse = await duckdb.open({ path: join(folder, 'warehouse.duckdb') })
  }, 120_000)
  afterAll(async () => {
    await from?.close()
    await warehouse?.close()
    await client?.close()
    await server?.close()
    await other?.close()
    rmSync(folder, { recursive: true, force: true })
  })

  /** Every row of a lane on both sides, in canonical text. */
  const bothSides = async (to: OpenSession, carried: Carried, lane: number, ids: string[]) => {
    const { source, target, reads, writes, identity, key } = carried.lanes[lane]!
    const row = (session: OpenSession, at: 'source' | 'target', id: string): Promise<Row | null> =>
      session.row(
        at === 'source'
          ? { dataset: source, columns: reads, key: identity }
          : { dataset: target, columns: writes, key },
        [id],
      )
    const sides = { source: [] as unknown[], target: [] as unknown[] }
    for (const id of ids) {
      sides.source.push(await row(from.session, 'source', id))
      sides.target.push(await row(to, 'target', id))
    }
    return sides
  }

  test('every type comes over exactly, copied and followed alike, into MariaDB itself', async () => {
    const columns = MARIA_TYPES.map(([name, type]) => `${name} ${type}`).join(', ')
    for (const name of ['copied', 'followed'])
      await run(`CREATE TABLE ${name} (id int PRIMARY KEY, ${columns})`)
    await run(insertMariaTypes('copied'))
    const to = await mariadb.open({ ...server.config })
    const carried = await start(to, ['copied', 'followed'], true)
    await copyAll(from, to, carried)
    await run(insertMariaTypes('followed'))
    expect((await followToHead(from, to, carried)).events).toBe(MARIA_ROWS + 1)
    const ids = Array.from({ length: MARIA_ROWS + 1 }, (_, i) => String(i))
    for (const lane of [0, 1]) {
      const { source, target } = await bothSides(to, carried, lane, ids)
      expect(target).toEqual(source)
      expect(source).not.toContain(null)
    }
    // What the two ways tell of the same values is the same text.
    expect((await bothSides(to, carried, 1, ids)).target).toEqual(
      (await bothSides(to, carried, 0, ids)).source,
    )
    await to.close()
  })

  test('what other systems hold of it is the same, too', async () => {
    const fits = MARIA_TYPES.filter(([name]) => !['ti', 'ti6', 'ti2'].includes(name))
    const columns = fits.map(([name, type]) => `${name} ${type}`).join(', ')
    await run(`CREATE TABLE abroad (id int PRIMARY KEY, ${columns})`)
    const rows = Array.from(
      { length: MARIA_ROWS + 1 },
      (_, row) => `(${row}, ${fits.map(([, , values]) => values[row] ?? 'NULL').join(', ')})`,
    )
    const postgresThere = await postgres.open({ ...other.config, method: 'triggers' })
    for (const to of [warehouse, postgresThere]) {
      await run('DELETE FROM abroad', `INSERT INTO abroad VALUES ${rows[0]}, ${rows[1]}`)
      const carried = await start(to, ['abroad'])
      await copyAll(from, to, carried)
      await run(`INSERT INTO abroad VALUES ${rows.slice(2).join(', ')}`)
      await followToHead(from, to, carried)
      const ids = Array.from({ length: MARIA_ROWS + 1 }, (_, i) => String(i))
      const { source, target } = await bothSides(to, carried, 0, ids)
      const floats = carried.lanes[0]!.reads.map(({ type }) => type.kind === 'float')
      const plain = (row: unknown) =>
        (row as Row).map((value, i) =>
          floats[i] && value !== null ? String(Math.fround(Number(value))) : value,
        )
      expect(target.map(plain)).toEqual(source.map(plain))
    }
    await postgresThere.close()
  })

  test('moves, composite keys, odd names, savepoints, truncate, large transactions and texts', async () => {
    await run(
      'CREATE TABLE `Plot / Row` (`Part No` varchar(20), `b``q` int, `Größe` longtext, PRIMARY KEY (`b``q`, `Part No`))',
      'INSERT INTO `Plot / Row` SELECT CONCAT("p", seq % 7), seq DIV 7, CONCAT("v", seq) FROM seq_1_to_5000',
      'CREATE TABLE emptied (id int PRIMARY KEY)',
      'INSERT INTO emptied VALUES (1), (2)',
      'CREATE TABLE aria (id int PRIMARY KEY, v int) ENGINE = Aria',
    )
    const carried = await start(warehouse, ['Plot / Row', 'emptied', 'aria'])
    await copyAll(from, warehouse, carried)
    await run(
      'UPDATE `Plot / Row` SET `b``q` = `b``q` + 10000 WHERE `Part No` = "p3"',
      'START TRANSACTION',
      'DELETE FROM `Plot / Row` WHERE `b``q` = 5',
      'INSERT INTO `Plot / Row` VALUES ("p1", 5, "again"), ("p\\"2", 5, NULL)',
      'SAVEPOINT s',
      'INSERT INTO `Plot / Row` VALUES ("never", 1, NULL)',
      'ROLLBACK TO SAVEPOINT s',
      'COMMIT',
      'INSERT INTO `Plot / Row` VALUES ("p2", 9, "put") ON DUPLICATE KEY UPDATE `Größe` = "put"',
      'REPLACE INTO `Plot / Row` VALUES ("p2", 10, "replaced")',
      'START TRANSACTION',
      'INSERT INTO `Plot / Row` VALUES ("never", 2, NULL)',
      'ROLLBACK',
      'INSERT INTO emptied VALUES (3)',
      'TRUNCATE TABLE emptied',
      'INSERT INTO emptied VALUES (4)',
      'INSERT INTO aria VALUES (1, 1)',
      'UPDATE aria SET v = 2',
      'INSERT INTO `Plot / Row` SELECT CONCAT("big ", seq), 77, REPEAT("x€", 3000) FROM seq_1_to_3000',
      'INSERT INTO `Plot / Row` VALUES ("long", 78, REPEAT("y", 3000000))',
    )
    const { parts } = await followToHead(from, warehouse, carried, 700)
    expect(parts).toBeGreaterThan(2)
    const query = async (sql: string) =>
      (await warehouse.query!(sql, limits({ maxRows: 50_000, timeoutMs: 20_000 }))).rows
        .map(row => JSON.stringify(row))
        .sort()
    const source = await client.arrays('SELECT `Part No`, `b``q`, md5(`Größe`) FROM `Plot / Row`')
    expect(
      await query(`SELECT "Part No", "b\`q"::VARCHAR, md5("Größe") FROM s${schemas}."Plot / Row"`),
    ).toEqual(source.map(row => JSON.stringify(row)).sort())
    expect(await query(`SELECT id FROM s${schemas}.emptied`)).toEqual(['["4"]'])
    expect(await query(`SELECT id, v FROM s${schemas}.aria`)).toEqual(['["1","2"]'])
  })

  test('rows told in part leave the rest alone; a table without a key is refused', async () => {
    await run('CREATE TABLE partial (id int PRIMARY KEY, n int, body text)', 'CREATE TABLE keyless (id int)')
    await run(`INSERT INTO partial VALUES (1, 1, 'one'), (2, 2, 'two'), (3, 3, 'three')`)
    await expect(start(warehouse, ['keyless'])).rejects.toThrow(/has no key/)
    const carried = await start(warehouse, ['partial'])
    await copyAll(from, warehouse, carried)
    await run(
      `SET SESSION binlog_row_image = 'MINIMAL'`,
      'UPDATE partial SET n = 9 WHERE id = 1',
      'UPDATE partial SET id = 20 WHERE id = 2',
      'DELETE FROM partial WHERE id = 3',
      `SET SESSION binlog_row_image = 'FULL'`,
    )
    await followToHead(from, warehouse, carried)
    const { rows } = await warehouse.query!(
      `SELECT * FROM s${schemas}.partial ORDER BY 1`,
      limits({ maxRows: 9 }),
    )
    expect(rows).toEqual([
      ['1', '9', 'one'],
      ['20', '2', 'two'],
    ])
  })

  test.each<[string, string[], RegExp]>([
    [
      'changed columns',
      ['ALTER TABLE guarded ADD COLUMN more text', 'INSERT INTO guarded VALUES (9, 1)'],
      /columns of site\.guarded were changed at the source/,
    ],
    [
      'another type',
      ['ALTER TABLE guarded MODIFY id bigint', 'INSERT INTO guarded VALUES (9)'],
      /columns of site\.guarded were changed at the source/,
    ],
    [
      'a table made anew',
      ['DROP TABLE guarded', 'CREATE TABLE guarded (id int PRIMARY KEY)'],
      /site\.guarded was dropped, renamed or made anew/,
    ],
    [
      'a renamed table',
      ['RENAME TABLE guarded TO gone, moved TO guarded'],
      /site\.guarded was dropped, renamed or made anew/,
    ],
    [
      'a statement instead of rows',
      [
        `SET SESSION binlog_format = 'STATEMENT'`,
        'INSERT INTO guarded VALUES (8)',
        `SET SESSION binlog_format = 'ROW'`,
      ],
      /tells a statement instead of its rows/,
    ],
    [
      'a purged log',
      [
        'FLUSH BINARY LOGS',
        'INSERT INTO guarded VALUES (8)',
        'FLUSH BINARY LOGS',
        'DO SLEEP(4)', // until the server has noticed that nobody reads the file any more
        'PURGE BINARY LOGS BEFORE now() + INTERVAL 1 DAY',
      ],
      /no longer in the source’s log/,
    ],
    [
      'a log begun anew',
      ['RESET MASTER', ...Array.from({ length: 30 }, (_, i) => `INSERT INTO guarded VALUES (${i + 10})`)],
      /is no longer in|is another one than was followed/,
    ],
  ])('stops for %s', async (_, meddling, message) => {
    await run(
      'DROP TABLE IF EXISTS guarded, gone, moved',
      'CREATE TABLE guarded (id int PRIMARY KEY)',
      'CREATE TABLE moved (id int PRIMARY KEY)',
    )
    const fresh = await openFrom(open)
    try {
      const carried = await begin(fresh, warehouse, [table('guarded')], `s${++schemas}`)
      await copyAll(fresh, warehouse, carried)
      await run('INSERT INTO guarded VALUES (1)')
      expect((await followToHead(fresh, warehouse, carried)).events).toBe(1)
      await fresh.pause!()
      await run(...meddling)
      await expect(followToHead(fresh, warehouse, carried)).rejects.toMatchObject({
        kind: 'structural',
        message: expect.stringMatching(message),
        remedy: expect.stringMatching(/copied anew|start the pipelines on it again/i),
      })
    } finally {
      await fresh.close()
    }
  })

  test('what an account may write is told before, also by its role, by a pattern, and by some columns alone', async () => {
    await run(
      'CREATE DATABASE `site_2`',
      'CREATE DATABASE `siteX2`',
      'CREATE DATABASE `sit``e)`',
      'CREATE TABLE clubs (id int PRIMARY KEY, `na``me, (of it)` text)',
      'CREATE TABLE members (id int PRIMARY KEY)',
      'CREATE TABLE `site_2`.pots (id int PRIMARY KEY)',
      'CREATE TABLE `siteX2`.pots (id int PRIMARY KEY)',
      'CREATE TABLE `sit``e)`.`po``ts` (id int PRIMARY KEY)',
      'CREATE ROLE wardens',
      'CREATE ROLE asleep',
      'GRANT DELETE ON site.members TO wardens',
      'GRANT DELETE ON *.* TO asleep',
      `CREATE USER writer@'%' IDENTIFIED BY 'x'`,
      `GRANT wardens TO writer@'%'`,
      `GRANT asleep TO writer@'%'`,
      `SET DEFAULT ROLE wardens FOR writer@'%'`,
      `GRANT SELECT ON *.* TO writer@'%'`,
      "GRANT UPDATE (id, `na``me, (of it)`), INSERT ON site.clubs TO writer@'%'",
      "GRANT INSERT, UPDATE ON `site\\_2`.* TO writer@'%'",
      "GRANT ALL PRIVILEGES ON `sit``e)`.`po``ts` TO writer@'%' WITH GRANT OPTION",
    )
    const writer = await mariadb.open({ ...server.config, user: 'writer', password: 'x' })
    const rights = await writer.singleRows!.rights()
    await writer.close()
    const of = (namespace: string, name: string) => {
      const { insert, update, delete: gone } = rights.get(datasetId({ namespace, name }))!
      return [insert, update, gone]
    }
    expect(of('site', 'clubs')).toEqual([true, false, false])
    expect(of('site', 'members')).toEqual([false, false, true])
    expect(of('site_2', 'pots')).toEqual([true, true, false])
    expect(of('siteX2', 'pots')).toEqual([false, false, false])
    expect(of('sit`e)', 'po`ts')).toEqual([true, true, true])
    const owner = await mariadb.open({ ...server.config })
    const all = await owner.singleRows!.rights()
    await owner.close()
    expect(all.get(datasetId({ namespace: 'siteX2', name: 'pots' }))).toEqual({
      insert: true,
      update: true,
      delete: true,
    })
  })

  test('a check says what is missing; the script of least rights is enough', async () => {
    await run(
      `CREATE USER looker@'%' IDENTIFIED BY 'x'`,
      `GRANT SELECT ON site.* TO looker@'%'`,
      `SET GLOBAL binlog_row_metadata = 'MINIMAL'`,
    )
    const items = new Map<string, { result: string; paste?: string; found: string }>()
    for await (const item of mariadb.check({ ...server.config, user: 'looker', password: 'x' }))
      items.set(item.what, item)
    expect(items.get('Right to replicate')).toMatchObject({
      result: 'failed',
      paste: `GRANT REPLICATION SLAVE, BINLOG MONITOR ON *.* TO 'looker'@'%';`,
    })
    expect(items.get('Log: binlog_row_metadata')).toMatchObject({
      result: 'failed',
      paste: `SET GLOBAL binlog_row_metadata = 'FULL';`,
    })
    await run(`SET GLOBAL binlog_row_metadata = 'FULL'`)
    const script = items
      .get('Least rights')!
      .paste!.split('\n')
      .filter(line => !line.startsWith('--'))
    await run(...script)
    const least = await openFrom(() =>
      mariadb.open({ ...server.config, user: 'constant_tide', password: 'choose one' }),
    )
    await run('CREATE TABLE seen (id int PRIMARY KEY)')
    const carried = await begin(least, warehouse, [table('seen')], `s${++schemas}`)
    await copyAll(least, warehouse, carried)
    await run('INSERT INTO seen VALUES (1)')
    expect((await followToHead(least, warehouse, carried)).events).toBe(1)
    await least.close()
    const wrong = []
    for await (const item of mariadb.check({ ...server.config, password: 'no' })) wrong.push(item)
    expect(wrong).toEqual([
      expect.objectContaining({
        result: 'failed',
        found: expect.stringMatching(/refuses this user or password/),
      }),
    ])
  })
})

test.each<[string, string[] | undefined, 'truncated' | 'replaced' | 'altered' | undefined]>([
  ['TRUNCATE beds', ['beds'], 'truncated'],
  ['/* by hand */ truncate table `site`.`beds`', ['beds'], 'truncated'],
  ['TRUNCATE elsewhere.beds', undefined, undefined],
  ['TRUNCATE TABLE Beds', ['beds'], 'replaced'],
  ['DROP TABLE IF EXISTS x, `beds` /* generated by server */', ['beds'], 'replaced'],
  ['RENAME TABLE a TO b, site.beds TO c', ['beds'], 'replaced'],
  ['CREATE OR REPLACE TABLE beds (id int)', ['beds'], 'replaced'],
  ['ALTER TABLE beds DROP PARTITION p1', ['beds'], 'replaced'],
  ['ALTER TABLE beds RENAME TO old', ['beds'], 'replaced'],
  ['ALTER TABLE beds ADD COLUMN v int', ['beds'], 'altered'],
  ['ALTER TABLE site.beds COMMENT = "b", CONVERT TO CHARACTER SET latin1', ['beds'], 'altered'],
  ['ALTER ONLINE TABLE IF EXISTS beds WAIT 5 MODIFY v text', ['beds'], 'altered'],
  ['ALTER TABLE beds ADD INDEX (v), ALTER COLUMN v SET DEFAULT 1, DROP KEY k, FORCE', undefined, undefined],
  ['ALTER TABLE other ADD COLUMN beds int', undefined, undefined],
  ['SET STATEMENT max_statement_time = 5 FOR TRUNCATE TABLE beds', ['beds'], 'truncated'],
  ['/*! TRUNCATE beds */', ['beds'], 'truncated'],
  ['-- beds\nDROP /*!50000 TABLE */ "beds"', ['beds'], 'replaced'],
  ['DROP TEMPORARY TABLE beds', undefined, undefined],
  ['CREATE INDEX i ON beds (id)', undefined, undefined],
  ['DROP DATABASE site', ['beds', 'tools'], 'replaced'],
])('what %s does to the rows', (sql, tables, kind) => {
  const known = ['beds', 'tools'].map(name => ({ namespace: 'site', name }))
  const { change } = readStatement(sql, 'site', known)
  expect([change?.tables.map(({ name }) => name), change?.kind]).toEqual([tables, kind])
})

test.each([
  ['SET STATEMENT max_statement_time = 5 FOR INSERT INTO beds VALUES (1)', 'rows'],
  ['/*!50000 UPDATE */ beds SET v = 1', 'rows'],
  ['# DROP\nDELETE FROM elsewhere.t', 'rows'],
  ['WITH t AS (SELECT 1) SELECT * FROM t', 'rows'],
  ['SELECT `site`.`grow`(1)', 'rows'],
  ['ANALYZE UPDATE beds SET v = 1', 'rows'],
  ['ANALYZE TABLE beds', 'definition'],
  ['CREATE TEMPORARY TABLE t (id int)', 'temporary'],
  ['/* x */ SAVEPOINT s', 'control'],
  ["XA COMMIT X'61',X'',1", 'xa commit'],
  ["XA END X'61',X'',1", 'control'],
  ['CREATE USER u', 'definition'],
])('%s is read as %s', (sql, kind) => {
  expect(readStatement(sql, 'site', [{ namespace: 'site', name: 'beds' }]).kind).toBe(kind)
})
