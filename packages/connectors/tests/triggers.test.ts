/** The change table that triggers fill: its positions, what is kept and forgotten of it, and what stops its reader. */
import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, test } from '@jest/globals'
import { comparePositions } from '@tide/core/position/order'
import type { Position } from '@tide/core/position/position'
import { ALTERED } from '@tide/core/records/relation'
import type pg from 'pg'
import type { Session } from '../src/contract/session.ts'
import type { LogSide } from '../src/contract/source.ts'
import { postgres } from '../src/postgres/connector.ts'
import { startEmbeddedPostgres } from './embedded-postgres.ts'
import { startRealPostgres, type TestDatabase } from './real-postgres.ts'
import { followUntil, RecordingSink } from './recording-sink.ts'

const READER = 'triggers'
const table = (name: string) => ({ namespace: 'public', name })

describe.each([
  ['Debian’s PostgreSQL', startRealPostgres as () => Promise<TestDatabase>],
  ['the embedded stand-in', startEmbeddedPostgres],
])('triggers in %s', (_, start) => {
  let database: TestDatabase
  let client: pg.Client
  let session: Session
  let log: LogSide
  beforeAll(async () => {
    database = await start()
    client = await database.connect()
    session = await postgres.open({ ...database.config, method: 'triggers' })
    log = session.log!
  })
  afterAll(async () => {
    await session?.close()
    await client?.end()
    await database?.close()
  })
  beforeEach(async () => {
    await client.query(
      'CREATE TABLE beds (id int PRIMARY KEY, v text); CREATE TABLE tools (id int PRIMARY KEY, v text)',
    )
  })
  afterEach(async () => {
    await log.close(READER)
    await client.query('DROP TABLE IF EXISTS beds, tools')
    await client.query('DROP SCHEMA IF EXISTS constant_tide CASCADE')
  })

  const follow = (
    from: Position,
    sink: RecordingSink,
    so: () => boolean | Promise<boolean>,
    stops: string[] = [],
  ) => followUntil(log, READER, { from, tables: [table('beds')], stops }, sink, so)
  const kept = async () =>
    (await client.query('SELECT count(*)::int AS n FROM constant_tide.change')).rows[0].n

  test('transactions come whole and in order, each behind the end of the one before', async () => {
    const from = await log.open(READER, [table('beds')])
    await client.query(
      `BEGIN; INSERT INTO beds VALUES (1, 'a'), (2, NULL); UPDATE beds SET v = 'b' WHERE id = 1; COMMIT`,
    )
    await client.query(`INSERT INTO tools VALUES (1, 'not followed')`)
    await client.query('DELETE FROM beds WHERE id = 2')
    await client.query('TRUNCATE beds')
    const sink = new RecordingSink(from.at)
    await follow(from, sink, () => sink.transactions.length === 3 && sink.marks.length > 0)
    expect(sink.transactions.map(({ events }) => events)).toEqual([
      [
        { op: 'insert', table: 'beds', after: ['1', 'a'] },
        { op: 'insert', table: 'beds', after: ['2', null] },
        { op: 'update', table: 'beds', before: ['1', 'a'], after: ['1', 'b'] },
      ],
      [{ op: 'delete', table: 'beds', before: ['2', null] }],
      [{ op: 'truncate', table: 'beds' }],
    ])
    const way = [from.at, ...sink.transactions.map(({ end }) => end), sink.marks.at(-1)!.position]
    for (let i = 1; i < way.length; i++) {
      expect(comparePositions({ ...from, at: way[i - 1]! }, { ...from, at: way[i]! })).toBe('before')
    }
    sink.transactions.forEach(({ start }, i) =>
      expect(['same', 'after']).toContain(comparePositions({ ...from, at: start }, { ...from, at: way[i]! })),
    )
  })

  test('who goes on from any place on the way sees the rest, and a position given out meanwhile is come by', async () => {
    const from = await log.open(READER, [table('beds')])
    await client.query(`INSERT INTO beds VALUES (1, 'before')`)
    await client.query(`INSERT INTO beds VALUES (2, 'before')`)
    const { position, added } = await log.extend(READER, [table('tools')])
    expect(added).toEqual([table('tools')])
    await client.query(`INSERT INTO beds VALUES (3, 'behind')`)
    const sink = new RecordingSink(from.at)
    await follow(from, sink, () => sink.transactions.length === 3 && sink.marks.length > 0, [position.at])
    const stands = (at: string) => comparePositions({ ...from, at }, position)
    expect(sink.transactions.map(({ end }) => stands(end))).toEqual(['before', 'before', 'after'])
    expect(sink.transactions.map(({ start }) => stands(start) === 'before')).toEqual([true, true, false])
    for (const [n, { end }] of sink.transactions.entries()) {
      const again = new RecordingSink(end)
      await follow({ ...from, at: end }, again, () => again.marks.length > 1, [position.at])
      expect(again.rows.map(([id]) => id)).toEqual(['1', '2', '3'].slice(n + 1))
    }
  })

  test('what is durable is forgotten, and nothing else; then an earlier place cannot be gone on from', async () => {
    const from = await log.open(READER, [table('beds')])
    await client.query(`INSERT INTO beds VALUES (1, 'a')`)
    const sink = new RecordingSink(from.at)
    await follow(from, sink, () => sink.transactions.length === 1 && sink.marks.length > 3)
    expect(await kept()).toBe(1)
    await log.inspectHistory(READER, from)
    const at = sink.marks.at(-1)!.position
    const later = new RecordingSink(at)
    await follow({ ...from, at }, later, async () => (await kept()) === 0)
    await expect(log.inspectHistory(READER, from)).rejects.toMatchObject({
      kind: 'structural',
      message: expect.stringMatching(/no longer holds what follows the end of our journal/),
    })
    await log.inspectHistory(READER, { ...from, at })
  })

  test('a transaction larger than an answer comes whole', async () => {
    const from = await log.open(READER, [table('beds')])
    await client.query(`INSERT INTO beds SELECT i, 'v' || i FROM generate_series(1, 12345) i`)
    await client.query(`INSERT INTO beds VALUES (0, 'last')`)
    const sink = new RecordingSink(from.at)
    await follow(from, sink, () => sink.transactions.length === 2)
    expect(sink.transactions.map(({ events }) => events.length)).toEqual([12345, 1])
    expect(new Set(sink.rows.map(([id]) => id)).size).toBe(12346)
  })

  test('changed columns are told before the rows that come with them; others are read on', async () => {
    const from = await log.open(READER, [table('beds'), table('tools')])
    const sink = new RecordingSink(from.at)
    await client.query(`ALTER TABLE beds ADD COLUMN more text`)
    await client.query(`INSERT INTO beds VALUES (1, 'a', 'b'); INSERT INTO tools VALUES (1, 'spade')`)
    const both = { from, tables: [table('beds'), table('tools')], stops: [] }
    await followUntil(log, READER, both, sink, () => sink.rows.length === 2)
    const last = (name: string) => sink.relations.findLast(({ dataset }) => dataset.name === name)!
    expect(last('beds').columns.map(({ nativeType }) => nativeType)).toEqual([ALTERED, ALTERED, ALTERED])
    expect(last('tools').columns).toEqual([
      { name: 'id', nativeType: 'integer' },
      { name: 'v', nativeType: 'text' },
    ])
    // Entered anew, the table is what it is now; what another reader of it stands on is not lost.
    await log.extend(READER, [table('beds')])
    const again = new RecordingSink(from.at)
    await followUntil(log, READER, both, again, () => again.rows.length === 2)
    expect(again.relations.map(({ columns }) => columns.length).sort()).toEqual([2, 3])
    expect(JSON.stringify(again.relations)).not.toContain(ALTERED)
  })

  test.each([
    ['a dropped table', 'DROP TABLE beds', /public\.beds was dropped/],
    ['a renamed table', 'ALTER TABLE beds RENAME TO flowers', /public\.beds was dropped, renamed/],
    [
      'a disabled trigger',
      'ALTER TABLE beds DISABLE TRIGGER ALL',
      /trigger of public\.beds was dropped or disabled/,
    ],
    ['a removed capture', 'DROP SCHEMA constant_tide CASCADE', /capture at the source is gone/],
  ])('stops for %s instead of losing changes', async (_, ddl, message) => {
    await log.open(READER, [table('beds')])
    await client.query(ddl)
    await expect(log.inspectTables(READER, [table('beds')])).rejects.toMatchObject({
      kind: 'structural',
      message: expect.stringMatching(message),
      remedy: expect.stringMatching(/./),
    })
    await client.query('DROP TABLE IF EXISTS flowers')
  })

  test('a trigger that was put back is told of as added: what was not captured is known', async () => {
    await log.open(READER, [table('beds')])
    await client.query(
      'DROP TRIGGER "!constant_tide_row" ON beds; DROP TRIGGER "!constant_tide_truncate" ON beds',
    )
    expect((await log.extend(READER, [table('beds')])).added).toEqual([table('beds')])
    expect((await log.extend(READER, [table('beds')])).added).toEqual([])
  })

  test('takes itself off the source without a trace', async () => {
    await log.open(READER, [table('beds')])
    await log.close(READER)
    const left = await client.query(
      `SELECT (SELECT count(*) FROM pg_trigger WHERE tgname LIKE '!%')::int AS triggers, to_regnamespace('constant_tide') IS NULL AS gone`,
    )
    expect(left.rows).toEqual([{ triggers: 0, gone: true }])
  })

  test('takes over from followers that each read for themselves: from the earliest of them, with all their tables', async () => {
    const early = await log.open('first', [table('beds')])
    await client.query(`INSERT INTO beds VALUES (1, 'for both')`)
    await log.open('second', [table('tools')])
    await log.open('stranger', [table('tools')])
    await client.query(`INSERT INTO tools VALUES (1, 'spade')`)
    const followers = [
      { id: 'first', tables: [table('beds')] },
      { id: 'second', tables: [table('tools')] },
    ]
    const from = await log.adopt!(READER, followers, early)
    expect(['before', 'same']).toContain(comparePositions(from, early))
    // Repeated after having been cut off, it says the same.
    expect(await log.adopt!(READER, followers, early)).toEqual(from)
    const sink = new RecordingSink(from.at)
    const both = { from, tables: [table('beds'), table('tools')], stops: [] }
    await followUntil(log, READER, both, sink, () => sink.rows.length === 2)
    const { rows } = await client.query('SELECT id FROM constant_tide.follower ORDER BY id')
    expect(rows.map(({ id }) => id)).toEqual(['stranger', READER])
    await log.close('stranger')
    await expect(log.adopt!('nobody', [], early)).rejects.toMatchObject({ kind: 'structural' })
  })
})

test('numbers of transactions that a crash of the source gives out again hide no change', async () => {
  const database = await startRealPostgres()
  const open = () => postgres.open({ ...database.config, method: 'triggers' })
  let client = await database.connect()
  await client.query('CREATE TABLE beds (id int PRIMARY KEY)')
  let session = await open()
  const from = await session.log!.open(READER, [table('beds')])
  // The log's end stays in memory for long, as it does for moments otherwise.
  const writer = await client.query(`SELECT pid FROM pg_stat_activity WHERE backend_type = 'walwriter'`)
  process.kill(writer.rows[0].pid, 'SIGSTOP')
  const sink = new RecordingSink(from.at)
  const reading = { from, tables: [table('beds')], stops: [] }
  let burned = 0
  await followUntil(session.log!, READER, reading, sink, async () => {
    if (sink.marks.length < 3) return false
    for (; burned < 50; burned++) await client.query('BEGIN; SELECT pg_current_xact_id(); ROLLBACK')
    return sink.marks.length > 6
  })
  await Promise.all([session.close(), client.end()])
  await database.restart('SIGQUIT')
  client = await database.connect()
  const { rows } = await client.query(
    'INSERT INTO beds VALUES (1) RETURNING pg_current_xact_id()::text AS xid',
  )
  expect(Number(rows[0].xid)).toBeLessThan(Number(from.at.split(':')[1]) + 50)
  session = await open()
  const at = sink.marks.at(-1)!.position
  const again = new RecordingSink(at)
  await followUntil(
    session.log!,
    READER,
    { ...reading, from: { ...from, at } },
    again,
    () => again.rows.length === 1,
  )
  expect(again.rows).toEqual([['1']])
  await session.close()
  await client.end()
  await database.close()
}, 60_000)
