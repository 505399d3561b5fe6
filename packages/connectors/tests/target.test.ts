import { limits } from './limits.ts'
import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, test } from '@jest/globals'
import { Failure } from '@tide/core/failure'
import type { Column } from '@tide/core/records/column'
import type { PrepareStep } from '@tide/core/plan/steps'
import type { LogicalType } from '@tide/core/records/types'
import { csvLine } from '@tide/core/records/csv'
import { listAsJson } from '@tide/core/records/list'
import type { Value } from '@tide/core/records/value'
import { duckdbType } from '@tide/core/shape/duckdb'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { SharedCheckpoint } from '../../engine/src/shapes/replicate/checkpoint.ts'
import { committing } from './landing.ts'
import type { Put } from '@tide/core/apply/net-effect'
import type { Checkpoint, Stream } from '@tide/core/checkpoint/checkpoint'
import { packRow } from '@tide/core/records/tuple'
import type { Config, Connector, Session } from '../src/contract/session.ts'
import type { CopyRange } from '../src/contract/source.ts'
import type { TargetLane } from '../src/contract/target.ts'
import { StandInBucket } from '../../stand-ins/src/bucket/bucket.ts'
import { bucket as lakeBucket } from '../src/bucket/connector.ts'
import { duckdb } from '../src/duckdb/connector.ts'
import { folder as lakeFolder } from '../src/folder/connector.ts'
import { mariadb } from '../src/mariadb/connector.ts'
import { postgres } from '../src/postgres/connector.ts'
import { startRealMariadb, type RealMariadb } from './real-mariadb.ts'
import { startRealPostgres, type RealPostgres } from './real-postgres.ts'

const column = (name: string, type: LogicalType): Column => ({
  name,
  type,
  nativeType: duckdbType(type).native.replace('VARCHAR', 'VARCHAR(200)'),
  nullable: true,
})
const columns = [
  column('id', { kind: 'int', bits: 32, signed: true }),
  column('price', { kind: 'decimal', precision: 6, scale: 2 }),
  column('note', { kind: 'utf8' }),
]
const LANE: TargetLane = { table: { namespace: 'main', name: 'prices' }, columns, key: ['id'] }
const schema: PrepareStep = { step: 'create schema', schema: LANE.table.namespace }
const STEP = { step: 'create table' as const, table: LANE.table, columns, key: ['id'] }
const checkpoint = (epoch: number, at: string): Checkpoint => ({
  pipeline: 'p',
  epoch,
  streams: [
    {
      origin: '',
      position: { kind: 'test', incarnation: 'one', at },
      completeUpTo: '2026-11-20T10:00:00.123456Z',
      consistent: true,
      lanes: [],
    },
  ],
})
const put = (key: string, row: Value[], from?: string): Put => ({
  key: [key],
  identity: [key],
  row: packRow(row),
  ...(from === undefined ? {} : { from: [from] }),
})
const range = (...rows: Value[][]): CopyRange => ({
  csv: [Buffer.from(rows.map(csvLine).join(''))],
  upTo: null,
})

let server: RealPostgres
let maria: RealMariadb
beforeAll(async () => {
  server = await startRealPostgres()
  maria = await startRealMariadb()
}, 120_000)
afterAll(async () => {
  await server?.close()
  await maria?.close()
})

/** As merged tables, where rows land in files. */
const MERGED = { as: 'merged', format: 'parquet', compress: 'zstd', folders: '' } as const

interface Place {
  files?: typeof MERGED
  connector: Connector
  config: Config
  clean(): void | Promise<void>
}

function inDuckdb(): Place {
  const folder = mkdtempSync(join(tmpdir(), 'constant-tide-test-'))
  const clean = () => rmSync(folder, { recursive: true, force: true })
  return { connector: duckdb, config: { path: join(folder, 'w.duckdb') }, clean }
}

function inPostgres(): Place {
  const clean = async () => {
    const client = await server.connect()
    await client.query(
      'DROP SCHEMA IF EXISTS main CASCADE; DROP SCHEMA IF EXISTS constant_tide_target CASCADE',
    )
    await client.end()
  }
  return { connector: postgres, config: { ...server.config, method: 'triggers' }, clean }
}

function inMariadb(): Place {
  const clean = async () => {
    const client = await maria.connect()
    await client.run('DROP DATABASE IF EXISTS main')
    await client.run('DROP DATABASE IF EXISTS constant_tide_target')
    await client.close()
  }
  return { connector: mariadb, config: { ...maria.config }, clean }
}

function inFolder(): Place {
  const folder = mkdtempSync(join(tmpdir(), 'constant-tide-test-'))
  const clean = () => rmSync(folder, { recursive: true, force: true })
  return { files: MERGED, connector: lakeFolder, config: { path: join(folder, 'lake') }, clean }
}

const KEYS = { accessKeyId: 'osier', secretAccessKey: 'willow-and-water' }

async function inBucket(): Promise<Place> {
  const folder = mkdtempSync(join(tmpdir(), 'constant-tide-test-'))
  const standIn = new StandInBucket({ ...KEYS, bucket: 'growers', folder, port: 0 })
  const config = { ...KEYS, endpoint: await standIn.listen(), bucket: 'growers' }
  const clean = async () => {
    await standIn.close()
    rmSync(folder, { recursive: true, force: true })
  }
  return { files: MERGED, connector: lakeBucket, config, clean }
}

const TARGETS = [
  ['DuckDB', inDuckdb],
  ['PostgreSQL', inPostgres],
  ['MariaDB', inMariadb],
  ['merged tables in a folder', inFolder],
  ['merged tables in a bucket', inBucket],
] as const

/** Where several pipelines share a table, each with its part of it. */
const SHARING: readonly string[] = ['DuckDB', 'PostgreSQL', 'MariaDB']

describe.each(TARGETS)('the target %s', (name, choose) => {
  let place: Place
  let session: Session
  let more: { files?: typeof MERGED }
  let lane: TargetLane
  let step: PrepareStep
  const rows = async () =>
    (await session.query!('SELECT * FROM main.prices ORDER BY id', limits({ maxRows: 100, timeoutMs: 5000 })))
      .rows
  const target = () => session.target!
  const load = (checkpoint: Checkpoint, ...rows: Value[][]) =>
    target().load(lane, range(...rows), false, committing(checkpoint))

  beforeEach(async () => {
    place = await choose()
    more = place.files ? { files: place.files } : {}
    lane = { ...LANE, ...more }
    step = { ...STEP, ...more }
    session = await place.connector.open(place.config)
    await target().prepare([schema, step], checkpoint(1, 'begin'))
    await load(checkpoint(1, 'copied'), ['1', '1.00', 'one'], ['2', '2.00', null], ['3', null, ''])
  })
  afterEach(async () => {
    await session.close()
    await place.clean()
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
      puts: [put('1', ['1', '9.50', undefined], '1'), put('20', ['20', undefined, 'moved'], '2')],
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
    const seven = put('7', ['7', undefined, 'seven'], '7')
    const whole = put('8', ['8', '8.00', 'eight'])
    const effect = { truncate: false, removed: [], puts: [seven, whole] }
    expect(await writing.apply([{ lane, effect }])).toEqual([{ lane, put: seven }])
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

  test('lists are whole wherever the parts of a range are cut', async () => {
    const table = { namespace: 'main', name: 'plots' }
    const type: LogicalType = { kind: 'list', of: { kind: 'utf8' } }
    const nativeType = name === 'MariaDB' ? 'JSON' : name === 'PostgreSQL' ? 'text[]' : 'VARCHAR[]'
    const grown: Column[] = [columns[0]!, { name: 'grown', type, nativeType, nullable: true }, columns[2]!]
    await target().prepare(
      [{ step: 'create table', table, columns: grown, key: ['id'], ...more }],
      checkpoint(1, 'begun'),
    )
    const wanted = Array.from({ length: 40 }, (_, i) => [
      String(i),
      i % 7 === 0 ? null : `{"willow, ${i}",NULL,"ä\\"\n"}`,
      i % 5 === 0 ? null : `note "${i}",\n`,
    ])
    const bytes = Buffer.from(wanted.map(csvLine).join(''))
    const csv = Array.from({ length: Math.ceil(bytes.length / 13) }, (_, i) =>
      bytes.subarray(i * 13, i * 13 + 13),
    )
    await target().load(
      { table, columns: grown, key: ['id'], ...more },
      { csv, upTo: null },
      false,
      committing(checkpoint(1, 'copied')),
    )
    const { rows: found } = await session.query!(
      // A list as JSON, by the target's own words.
      `SELECT id, ${name === 'MariaDB' ? 'grown' : `CAST(to_json(grown) AS text)`}, note FROM main.plots ORDER BY id`,
      limits({ maxRows: 100, timeoutMs: 5000 }),
    )
    expect(found).toEqual(wanted.map(([id, list, note]) => [id, list && listAsJson(list!), note]))
  })

  test('rows that should be new take the place of those that are there all the same', async () => {
    const writing = await target().begin()
    const puts = [put('2', ['2', '2.50', 'new']), put('4', ['4', '4.00', ''])]
    await writing.apply([{ lane, effect: { truncate: false, removed: [], puts, fresh: true } }])
    await writing.apply([{ lane, effect: { truncate: false, removed: [], puts: [puts[1]!], fresh: true } }])
    await writing.commit(checkpoint(1, 'fresh'))
    expect(await rows()).toEqual([
      ['1', '1.00', 'one'],
      ['2', '2.50', 'new'],
      ['3', null, ''],
      ['4', '4.00', ''],
    ])
  })

  test('applying a batch again leaves the same rows', async () => {
    const effect = { truncate: false, removed: [['1']], puts: [put('2', ['2', '7.00', 'x'])] }
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
      load(checkpoint(1, 'bad'), ['8', '8.00', 'fits'], ['9', '12345.00', 'does not']),
    ).rejects.toMatchObject({
      kind: 'value',
      message: expect.stringMatching(
        /^main\.prices\.price: (the value 12345\.00 does not fit|Out of range value)/,
      ),
      remedy: expect.stringContaining('Correct the value at the source'),
    })
    const writing = await target().begin()
    await writing.apply([{ lane, effect: { truncate: true, removed: [], puts: [] } }])
    await writing.rollback()
    expect(await rows()).toHaveLength(3)
    expect((await target().readCheckpoint('p'))!.streams[0]!.position.at).toBe('copied')
  })

  test('who has been overtaken cannot write any more', async () => {
    await load(checkpoint(2, 'later'), ['4', '4.00', 'later'])
    await expect(load(checkpoint(1, 'late'), ['5', '5.00', 'late'])).rejects.toMatchObject({
      kind: 'structural',
      message: expect.stringContaining('taken this pipeline over'),
    })
    expect(await rows()).toHaveLength(4)
  })

  test('who takes over ends what another has under way, and shuts out older epochs', async () => {
    const frozen = await place.connector.open(place.config)
    await frozen.target!.takeCheckpoint('p', 1, 1)
    const writing = await frozen.target!.begin()
    const frozenPut = put('1', ['1', '9.00', 'frozen'])
    await writing.apply([{ lane, effect: { truncate: false, removed: [], puts: [frozenPut] } }])
    expect(await target().takeCheckpoint('p', 3, 4)).toBeUndefined() // of an earlier start
    expect(await target().takeCheckpoint('p', 3, 1)).toEqual({ ...checkpoint(1, 'copied'), epoch: 3 })
    await load(checkpoint(3, 'taken'), ['4', '4.00', 'taken'])
    await expect(writing.commit(checkpoint(1, 'thawed'))).rejects.toBeInstanceOf(Failure)
    await writing.rollback()
    await expect(frozen.target!.prepare([], checkpoint(1, 'anew'))).rejects.toMatchObject({
      message: expect.stringContaining('taken this pipeline over'),
    })
    expect(await rows()).toEqual([
      ['1', '1.00', 'one'],
      ['2', '2.00', null],
      ['3', null, ''],
      ['4', '4.00', 'taken'],
    ])
    await frozen.close()
  })

  test('while a table is copied, changes of another land, each with what the other had written', async () => {
    const other = { ...lane, table: { ...lane.table, name: 'others' } }
    await target().prepare([{ ...STEP, ...more, table: other.table }], checkpoint(2, 'other'))
    const shared = new SharedCheckpoint(checkpoint(2, 'other'))
    const noted = (at: string) => (now: Stream) => ({
      ...now,
      position: { ...now.position, at: now.position.at + at },
    })
    const copying = Array.from({ length: 8 }, (_, n) =>
      target().load(lane, range([`${n + 10}`, '1.00', 'copied']), false, (_, write) =>
        shared.commit(noted(' c'), write),
      ),
    )
    const follow = async () => {
      for (let n = 0; n < 8; n++) {
        const writing = await target().begin()
        const puts = [put(`${n}`, [`${n}`, '2.00', 'landed'])]
        await writing.apply([{ lane: other, effect: { truncate: false, removed: [], puts } }])
        await shared.commit(noted(' f'), next => writing.commit(next))
        await target().count(lane)
      }
    }
    await Promise.all([...copying, follow()])
    expect(await rows()).toHaveLength(11)
    expect(await target().count(other)).toBe(8)
    const { at } = (await target().readCheckpoint('p'))!.streams[0]!.position
    expect([at.match(/ c/g)?.length, at.match(/ f/g)?.length]).toEqual([8, 8])
  })

  if (SHARING.includes(name))
    test('of a table that several origins share, each empties, truncates and counts its own part alone', async () => {
      const shared = { namespace: 'main', name: 'shared' }
      const ofBoth = [
        column('origin', { kind: 'utf8' }),
        column('id', { kind: 'int', bits: 32, signed: true }),
      ]
      const key = ['origin', 'id']
      await target().change(
        [{ step: 'create table', table: shared, columns: ofBoth, key }],
        [],
        checkpoint(1, 'shared'),
      )
      const laneOf = (value: string): TargetLane => ({
        table: shared,
        columns: ofBoth,
        key,
        part: { column: 'origin', value },
      })
      const [north, south] = [laneOf("n'orth\\"), laneOf('south')]
      for (const lane of [north, south]) {
        const { value } = lane.part!
        await target().load(
          lane,
          range([value, '1'], [value, '2']),
          false,
          committing(checkpoint(1, 'loaded')),
        )
      }
      const counts = async () => [await target().count(north), await target().count(south)]
      expect(await counts()).toEqual([2, 2])
      const writing = await target().begin()
      const row = { key: [north.part!.value, '7'], identity: ['7'], row: packRow([north.part!.value, '7']) }
      await writing.apply([{ lane: north, effect: { truncate: true, removed: [], puts: [row] } }])
      await writing.commit(checkpoint(1, 'truncated'))
      expect(await counts()).toEqual([1, 2])
      await target().empty([south], checkpoint(1, 'emptied'))
      expect(await counts()).toEqual([1, 0])
      expect(await target().count({ ...north, part: { column: 'origin', value: 'nobody' } })).toBe(0)
    })

  test('a table is altered with its rows, and goes on under its new names', async () => {
    const [id, text, odd] = [
      column('id', { kind: 'int', bits: 32, signed: true }),
      column('na"me', { kind: 'utf8' }),
      column('odd `one`', { kind: 'utf8' }),
    ]
    const table = { namespace: 'main', name: 'al"tered' }
    const before: TargetLane = { table, columns: [id, text, odd], key: ['id'], ...more }
    const created: PrepareStep = { ...STEP, table, columns: [id, text, odd], ...more }
    await target().change([created], [], checkpoint(1, 'there'))
    await target().load(
      before,
      range(['1', 'a', 'x'], ['2', 'b', 'y']),
      false,
      committing(checkpoint(1, 'in')),
    )
    // Files stay where they are.
    const to = place.files ? table : { ...table, name: 'renamed' }
    const [called, number, extra] = [
      { ...text, name: 'called' },
      { ...id, name: 'number' },
      { ...column('extra', { kind: 'utf8' }), nullable: true },
    ]
    const alter: PrepareStep = {
      step: 'alter table',
      table,
      ...(place.files ? {} : { to }),
      drops: [odd.name],
      renames: [
        { from: text.name, to: called.name },
        { from: id.name, to: number.name },
      ],
      adds: [extra],
    }
    await target().change([alter], [], checkpoint(1, 'altered'))
    // In another order than the table has them, which is the order in which the plan has them.
    const after: TargetLane = { table: to, columns: [extra, number, called], key: ['number'], ...more }
    await target().load(after, range(['e', '3', 'c']), false, committing(checkpoint(1, 'more')))
    const writing = await target().begin()
    const row = { key: ['2'], identity: ['2'], row: packRow(['f', '2', 'B']) }
    await writing.apply([{ lane: after, effect: { truncate: false, removed: [['1']], puts: [row] } }])
    await writing.commit(checkpoint(1, 'changed'))
    const there = await session.query!(
      `SELECT number, called, extra FROM main.${place.files ? '"al""tered"' : 'renamed'} ORDER BY number`,
      limits({ maxRows: 100, timeoutMs: 5000 }),
    )
    expect(there.rows).toEqual([
      ['2', 'B', 'f'],
      ['3', 'c', 'e'],
    ])
    await target().change([], [after], checkpoint(1, 'emptied'))
    expect(await target().count(after)).toBe(0)
  })

  test('more tables come with the checkpoint that has them; what is there stays', async () => {
    const table = { ...lane.table, name: 'later' }
    const added: PrepareStep = { ...STEP, table, columns, ...more }
    await expect(target().change([added, added], [], checkpoint(1, 'failed'))).rejects.toBeInstanceOf(Failure)
    expect((await target().readCheckpoint('p'))!.streams[0]!.position.at).toBe('copied')
    await target().change([added], [], checkpoint(1, 'extended'))
    expect((await target().readCheckpoint('p'))!.streams[0]!.position.at).toBe('extended')
    expect([await target().count(lane), await target().count({ ...lane, table })]).toEqual([3, 0])
    await expect(target().change([], [], checkpoint(0, 'late'))).rejects.toMatchObject({
      message: expect.stringContaining('taken this pipeline over'),
    })
  })

  test('emptying takes the rows and sets the checkpoint in one', async () => {
    await target().empty([lane], checkpoint(1, 'again'))
    expect(await rows()).toEqual([])
    expect((await target().readCheckpoint('p'))!.streams[0]!.position.at).toBe('again')
  })
})
