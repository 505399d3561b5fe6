/** Merged tables as a reader that is not ours sees them, and how they go on when somebody else has been there. */
import { afterEach, beforeEach, expect, test } from '@jest/globals'
import type { Checkpoint } from '@tide/core/checkpoint/checkpoint'
import { csvLine } from '@tide/core/records/csv'
import { packRow } from '@tide/core/records/tuple'
import type { Value } from '@tide/core/records/value'
import { icebergMetadata, icebergRead } from 'icebird'
import { copyFileSync, mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { fileURLToPath, pathToFileURL } from 'node:url'
import type { Session } from '../src/contract/session.ts'
import type { TargetLane } from '../src/contract/target.ts'
import { folder as connector } from '../src/folder/connector.ts'
import { committing } from './landing.ts'
import { limits } from './limits.ts'

const columns = [
  {
    name: 'id',
    type: { kind: 'int', bits: 32, signed: true } as const,
    nativeType: 'INTEGER',
    nullable: false,
  },
  { name: 'name', type: { kind: 'utf8' } as const, nativeType: 'VARCHAR', nullable: true },
]
const files = { as: 'merged', format: 'parquet', compress: 'snappy', folders: '' } as const
const lane: TargetLane = { table: { namespace: 'site', name: 'beds' }, columns, key: ['id'], files }
const step = { step: 'create table' as const, table: lane.table, columns, key: ['id'], files }
const checkpoint = (at: string, epoch = 1): Checkpoint => ({
  pipeline: 'p',
  epoch,
  streams: [
    {
      origin: '',
      position: { kind: 'test', incarnation: '', at },
      completeUpTo: '2026-11-20T10:00:00.000Z',
      consistent: true,
      lanes: [],
    },
  ],
})

let place: string
let session: Session
const web = globalThis.fetch
beforeEach(async () => {
  place = mkdtempSync(join(tmpdir(), 'constant-tide-merged-'))
  session = await connector.open({ path: place })
  // The reader asks over the network; here it gets files.
  globalThis.fetch = (async (input: string, init?: RequestInit) => {
    const bytes = readFileSync(fileURLToPath(String(input)))
    const [, from, to] = /bytes=(\d+)-(\d*)/.exec(new Headers(init?.headers).get('Range') ?? '') ?? []
    const part = from === undefined ? bytes : bytes.subarray(Number(from), to ? Number(to) + 1 : undefined)
    return new Response(init?.method === 'HEAD' ? null : part, {
      status: from === undefined ? 200 : 206,
      headers: { 'Content-Length': String(part.length) },
    })
  }) as typeof fetch
})
afterEach(async () => {
  globalThis.fetch = web
  await session.close()
  rmSync(place, { recursive: true, force: true })
})

const target = () => session.target!
const load = (at: string, ...rows: Value[][]) =>
  target().load(
    lane,
    { csv: [Buffer.from(rows.map(csvLine).join(''))], upTo: null },
    false,
    committing(checkpoint(at)),
  )
async function land(at: string, removed: string[], ...rows: string[][]): Promise<void> {
  const writing = await target().begin()
  const puts = rows.map(row => ({ key: [row[0]!], identity: [row[0]!], row: packRow(row) }))
  await writing.apply([{ lane, effect: { truncate: false, removed: removed.map(key => [key]), puts } }])
  await writing.commit(checkpoint(at))
}
const tableUrl = () => pathToFileURL(join(place, 'site.beds')).href
async function others(): Promise<unknown[]> {
  const rows = await icebergRead({ tableUrl: tableUrl() })
  return rows.sort((a, b) => Number(a.id) - Number(b.id))
}

test('another reader finds the rows; what a snapshot was, and what came and went with it, can be looked at', async () => {
  await target().prepare([step], checkpoint('begun'))
  await load('copied', ['1', 'one'], ['2', 'two'], ['3', 'three'])
  expect(await others()).toEqual([
    { id: 1, name: 'one' },
    { id: 2, name: 'two' },
    { id: 3, name: 'three' },
  ])
  await land('landed', ['1'], ['2', 'TWO'], ['4', 'four'])
  expect(await others()).toEqual([
    { id: 2, name: 'TWO' },
    { id: 3, name: 'three' },
    { id: 4, name: 'four' },
  ])
  const { snapshots = [] } = await icebergMetadata({ tableUrl: tableUrl() })
  expect(
    snapshots.map(({ summary }) => [
      summary.operation,
      (summary as Record<string, string>)['constant-tide.position'],
    ]),
  ).toEqual([
    ['append', 'copied'],
    ['overwrite', 'landed'],
  ])
  const versions = await session.versions!(lane.table, 10)
  expect(versions.map(({ operation, added, removed, rows }) => [operation, added, removed, rows])).toEqual([
    ['overwrite', 2, 1, 3],
    ['append', 3, 0, 3],
  ])
  const [newest, oldest] = versions.map(({ id }) => id) as [string, string]
  const few = limits({ maxRows: 10, timeoutMs: 5000 })
  expect((await session.previewAt!(lane.table, oldest, few)).rows).toEqual([
    ['1', 'one'],
    ['2', 'two'],
    ['3', 'three'],
  ])
  expect((await session.difference!(lane.table, oldest, newest, few)).rows).toEqual([
    ['gone', '1', 'one'],
    ['gone', '2', 'two'],
    ['come', '2', 'TWO'],
    ['come', '4', 'four'],
  ])
  await expect(session.previewAt!(lane.table, '7', few)).rejects.toMatchObject({ kind: 'refused' })
})

test('old snapshots expire with their files; those that are left are whole', async () => {
  await target().prepare([step], checkpoint('begun'))
  await load('copied', ['1', 'one'], ['2', 'two'])
  for (let i = 0; i < 220; i++) await land(String(i), [], ['1', `round ${i}`])
  const few = limits({ maxRows: 10, timeoutMs: 5000 })
  const versions = await session.versions!(lane.table, 1000)
  expect(versions.length).toBeGreaterThan(100)
  expect(versions.length).toBeLessThanOrEqual(200)
  for (const { id } of [versions[0]!, versions[70]!, versions.at(-1)!])
    expect((await session.previewAt!(lane.table, id, few)).rows).toHaveLength(2)
  const there = readdirSync(join(place, 'site.beds', 'data')).length
  expect(there).toBeLessThanOrEqual(versions.length)
  expect(await others()).toEqual([
    { id: 1, name: 'round 219' },
    { id: 2, name: 'two' },
  ])
  rmSync(join(place, 'site.beds', 'metadata', 'version-hint.text'))
  expect((await session.catalogue()).datasets[0]!.rows).toBe(2)
}, 60_000)

test('what somebody else has committed is not written over: it is named, and nothing is half there', async () => {
  await target().prepare([step], checkpoint('begun'))
  await load('copied', ['1', 'one'])
  const metadata = join(place, 'site.beds', 'metadata')
  copyFileSync(join(metadata, 'v2.metadata.json'), join(metadata, 'v3.metadata.json'))
  await expect(land('landed', [], ['2', 'two'])).rejects.toMatchObject({
    kind: 'structural',
    message: expect.stringContaining('somebody else has written site.beds/metadata/v3.metadata.json'),
    remedy: expect.stringContaining('start again'),
  })
  expect(await others()).toEqual([{ id: 1, name: 'one' }])
})

test('a table that another pipeline or something else has made is left alone', async () => {
  await target().prepare([step], checkpoint('begun'))
  await expect(target().prepare([step], { ...checkpoint('other'), pipeline: 'q' })).rejects.toMatchObject({
    message: expect.stringContaining('another pipeline, p'),
  })
  writeFileSync(join(place, 'site.beds', 'metadata', 'v2.metadata.json'), '{"format-version": 1}')
  await expect(session.catalogue()).rejects.toMatchObject({
    message: expect.stringContaining('cannot be read as the metadata of an Iceberg table'),
  })
})
