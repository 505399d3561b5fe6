import { afterEach, beforeEach, describe, expect, test } from '@jest/globals'
import type { LaneColumn, PrepareStep } from '@tide/core/plan/plan'
import type { LogicalType } from '@tide/core/records/types'
import { csvLine } from '@tide/core/records/csv'
import type { Value } from '@tide/core/records/value'
import { duckdbType } from '@tide/core/shape/duckdb'
import { spawnSync } from 'node:child_process'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { committing } from './landing.ts'
import type { Checkpoint, CopyRange, Session, TargetLane } from '../src/contract.ts'
import { duckdb } from '../src/duckdb/connector.ts'

const column = (target: string, type: LogicalType): LaneColumn => ({
  source: target,
  target,
  type,
  nativeType: '',
  targetType: duckdbType(type).native,
  nullable: true,
})
const columns = [
  column('id', { kind: 'int', bits: 32, signed: true }),
  column('price', { kind: 'decimal', precision: 6, scale: 2 }),
  column('note', { kind: 'utf8' }),
]
const lane: TargetLane = { table: { namespace: 'main', name: 'prices' }, columns, key: ['id'] }
const step: PrepareStep = { step: 'create table', table: lane.table, columns, key: ['id'] }
const checkpoint = (epoch: number, at: string): Checkpoint => ({
  pipeline: 'p',
  epoch,
  position: { kind: 'test', incarnation: 'one', at },
  completeUpTo: '2026-11-20T10:00:00.123456Z',
  lanes: [],
  consistent: true,
})
const range = (...rows: Value[][]): CopyRange => ({
  csv: [Buffer.from(rows.map(csvLine).join(''))],
  upTo: null,
})

describe('DuckDB target', () => {
  let folder: string
  let session: Session
  const rows = async () =>
    (await session.query!('SELECT * FROM prices ORDER BY id', { maxRows: 100, timeoutMs: 5000 })).rows
  const target = () => session.target!
  const load = (checkpoint: Checkpoint, ...rows: Value[][]) =>
    target().load(lane, range(...rows), false, committing(checkpoint))

  beforeEach(async () => {
    folder = mkdtempSync(join(tmpdir(), 'constant-tide-test-'))
    session = await duckdb.open({ path: join(folder, 'w.duckdb') })
    await target().prepare([step], checkpoint(1, 'begin'))
    await load(checkpoint(1, 'copied'), ['1', '1.00', 'one'], ['2', '2.00', null], ['3', null, ''])
  })
  afterEach(async () => {
    await session.close()
    rmSync(folder, { recursive: true, force: true })
  })

  test('loads rows with their checkpoint, nulls and empty strings apart', async () => {
    expect(await rows()).toEqual([
      ['1', '1.00', 'one'],
      ['2', '2.00', null],
      ['3', null, ''],
    ])
    expect(await target().readCheckpoint('p')).toEqual(checkpoint(1, 'copied'))
    expect(await target().readCheckpoint('other')).toBeUndefined()
  })

  test('fills in what was not sent, also for a row that moves', async () => {
    const writing = await target().begin()
    const effect = {
      truncate: false,
      removed: [['2']],
      puts: [
        { key: ['1'], row: ['1', '9.50', undefined], from: ['1'] },
        { key: ['20'], row: ['20', undefined, 'moved'], from: ['2'] },
      ],
    }
    expect(await writing.apply([{ lane, effect }])).toEqual([])
    await writing.commit(checkpoint(1, 'applied'))
    expect(await rows()).toEqual([
      ['1', '9.50', 'one'],
      ['3', null, ''],
      ['20', '2.00', 'moved'],
    ])
  })

  test('hands back what it cannot fill because the row is not there', async () => {
    const writing = await target().begin()
    const put = { key: ['7'], row: ['7', undefined, 'seven'], from: ['7'] }
    const whole = { key: ['8'], row: ['8', '8.00', 'eight'] }
    const effect = { truncate: false, removed: [], puts: [put, whole] }
    expect(await writing.apply([{ lane, effect }])).toEqual([{ lane, put }])
    await writing.commit(checkpoint(1, 'applied'))
    expect((await rows()).map(([id]) => id)).toEqual(['1', '2', '3', '8'])
  })

  test('a range loaded again takes the place of its rows', async () => {
    const again = range(['3', '3.50', 'again'], ['4', '4.00', 'new'])
    await target().load(lane, again, true, committing(checkpoint(1, 'again')))
    expect(await rows()).toEqual([
      ['1', '1.00', 'one'],
      ['2', '2.00', null],
      ['3', '3.50', 'again'],
      ['4', '4.00', 'new'],
    ])
  })

  test('applying a batch again leaves the same rows', async () => {
    const effect = { truncate: false, removed: [['1']], puts: [{ key: ['2'], row: ['2', '7.00', 'x'] }] }
    for (const at of ['once', 'twice']) {
      const writing = await target().begin()
      await writing.apply([{ lane, effect }])
      await writing.commit(checkpoint(1, at))
    }
    expect(await rows()).toEqual([
      ['2', '7.00', 'x'],
      ['3', null, ''],
    ])
  })

  test('a value that does not fit is named, and nothing of its batch stays', async () => {
    await expect(
      load(checkpoint(1, 'bad'), ['8', '8.00', 'fits'], ['9', 'NaN', 'does not']),
    ).rejects.toMatchObject({
      kind: 'value',
      message: 'main.prices.price: the value NaN does not fit DECIMAL(6,2), in the row with id 9.',
      remedy: expect.stringContaining('Correct the value at the source'),
    })
    const writing = await target().begin()
    await writing.apply([{ lane, effect: { truncate: true, removed: [], puts: [] } }])
    await writing.rollback()
    expect(await rows()).toHaveLength(3)
    expect((await target().readCheckpoint('p'))!.position.at).toBe('copied')
  })

  test('who has been overtaken cannot write any more', async () => {
    await load(checkpoint(2, 'later'), ['4', '4.00', 'later'])
    await expect(load(checkpoint(1, 'late'), ['5', '5.00', 'late'])).rejects.toMatchObject({
      kind: 'structural',
      message: expect.stringContaining('taken this pipeline over'),
    })
    expect(await rows()).toHaveLength(4)
  })

  test('emptying takes the rows and sets the checkpoint in one', async () => {
    await target().empty([lane], checkpoint(1, 'again'))
    expect(await rows()).toEqual([])
    expect((await target().readCheckpoint('p'))!.position.at).toBe('again')
  })

  test.each([
    ['DROP TABLE prices', /not a query but DROP/],
    ['SELECT 1; DELETE FROM prices', /2 statements/],
    ["COPY prices TO '/tmp/stolen.csv'", /not a query but COPY|disabled by configuration/],
    ["SELECT * FROM read_text('/etc/passwd')", /disabled by configuration/],
    ['SELECT nope FROM prices', /nope/],
    ["ATTACH '/tmp/other.duckdb'", /not a query but ATTACH/],
  ])('the query box refuses %s', async (sql, message) => {
    await expect(session.query!(sql, { maxRows: 10, timeoutMs: 2000 })).rejects.toMatchObject({
      kind: 'refused',
      message: expect.stringMatching(message),
    })
    expect(await rows()).toHaveLength(3)
  })

  test('a query is cut at its row cap and says how many there are; a long one is stopped', async () => {
    const { rows, total } = await session.query!('SELECT * FROM range(5000)', {
      maxRows: 10,
      timeoutMs: 5000,
    })
    expect([rows.length, total]).toEqual([10, 5000])
    const endless =
      'SELECT count(*) FROM range(1000000) a, range(1000000) b, range(1000) c WHERE a.range + b.range = c.range - 1'
    await expect(session.query!(endless, { maxRows: 10, timeoutMs: 300 })).rejects.toMatchObject({
      message: expect.stringContaining('stopped after'),
    })
  })

  test('a file that another process holds is named with its holder', async () => {
    const script = `
      const { duckdb } = await import('@tide/connectors/duckdb/connector')
      for await (const item of duckdb.check({ path: process.argv[1] })) console.log(JSON.stringify(item))`
    const { stdout } = spawnSync(
      process.execPath,
      ['--import', 'tsx', '--input-type=module', '-e', script, join(folder, 'w.duckdb')],
      { encoding: 'utf8', cwd: process.cwd() },
    )
    expect(JSON.parse(stdout)).toMatchObject({
      result: 'failed',
      found: expect.stringContaining(`is held by process ${process.pid}`),
      remedy: expect.stringContaining('one process only'),
    })
  })
})
