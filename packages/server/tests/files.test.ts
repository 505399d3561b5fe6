/** Files that others put into a folder or a bucket, as a source: copied, followed, and their bad lines held. */
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type { Catalogue, Grid } from '@tide/core/api/browse'
import type { HeldAnswer, HeldOverview } from '@tide/core/api/held'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { PlanAnswer } from '@tide/core/api/plans'
import { datasetId } from '@tide/core/records/dataset'
import { DuckDBInstance } from '@duckdb/node-api'
import { mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { dirname, join } from 'node:path'
import { gzipSync } from 'node:zlib'
import { eventually } from '../../../e2e/server.ts'
import { StandInBucket } from '../../stand-ins/src/bucket/bucket.ts'
import { BucketStore } from '../../connectors/src/bucket/bucket-store.ts'
import { settings } from '../../connectors/src/bucket/config.ts'
import { call } from '../../stand-ins/src/api-call.ts'
import { openRealSystems, type RealSystems } from './real-systems.ts'

const KEYS = { accessKeyId: 'osier', secretAccessKey: 'willow-and-water' }
let systems: RealSystems
let url: string
let standIn: StandInBucket
let store: BucketStore

beforeAll(async () => {
  systems = await openRealSystems([])
  ;({ url } = systems)
  standIn = new StandInBucket({ ...KEYS, bucket: 'drops', folder: join(systems.folder, 'objects'), port: 0 })
  const bucket = { ...KEYS, endpoint: await standIn.listen(), bucket: 'drops' }
  store = new BucketStore(settings(bucket))
  await systems.connect('folder', 'folder', { path: join(systems.folder, 'drop') })
  await systems.connect('bucket', 'bucket', bucket)
  await systems.connect('warehouse', 'duckdb', { path: join(systems.folder, 'warehouse.duckdb') })
}, 120_000)
afterAll(async () => {
  await store?.close()
  await standIn?.close()
  await systems?.close()
})

async function put(place: string, path: string, body: string | Uint8Array): Promise<void> {
  if (place === 'bucket')
    return store.put(
      path,
      (async function* () {
        yield Buffer.from(body)
      })(),
    )
  const to = join(systems.folder, 'drop', path)
  mkdirSync(dirname(to), { recursive: true })
  writeFileSync(to, body)
}

/** What a SELECT has, as a file. */
async function parquet(sql: string): Promise<Uint8Array> {
  const path = join(systems.folder, 'made.parquet')
  const instance = await DuckDBInstance.create(':memory:')
  const connection = await instance.connect()
  await connection.run(`COPY (${sql}) TO '${path}' (FORMAT parquet)`)
  connection.disconnectSync()
  instance.closeSync()
  return readFileSync(path)
}

const statusOf = (id: string) => call<PipelineStatus>(url, 'GET', `/pipelines/${id}`)

async function started(place: string, tables: string[]): Promise<string> {
  const definition = {
    version: 2,
    shape: 'replicate',
    name: `files of the ${place}`,
    from: systems.ids[place]!,
    to: systems.ids.warehouse!,
    targetSchema: place,
    names: [{ names: 'all', like: '*', does: { find: '[^A-Za-z0-9]+', by: '_' } }],
    tables: tables.map(name => ({ namespace: 'files', name })),
  }
  const { id } = await call<PipelineStatus>(url, 'POST', '/pipelines', definition)
  const plan = await call<PlanAnswer>(url, 'POST', '/plan', { definition, pipeline: id, fresh: true })
  expect(plan.notes.filter(({ level }) => level === 'refused' || level === 'undecided')).toEqual([])
  await call(url, 'POST', `/pipelines/${id}/start`)
  await eventually(async () => {
    const { state, reason } = await statusOf(id)
    if (reason) throw new Error(reason.message)
    return state === 'Following'
  }, 30)
  return id
}

describe.each(['folder', 'bucket'])('in a %s', place => {
  const rows = (sql: string) => systems.ask('warehouse', sql)

  test('CSV, JSON Lines and Parquet are tables with types', async () => {
    await put(
      place,
      'in/prices/a.csv',
      'sku;price;since;note\r\n"001";12.50;2026-01-02;\r\n"002";7;2026-02-03;"a ""b"";\r\nc"\r\n',
    )
    await put(place, 'in/prices/b.csv.gz', gzipSync('sku;price;since;note\n"003";1.99;2026-02-04;""\n'))
    await put(
      place,
      'in/events/1.jsonl',
      '{"id": 12345678901234567890, "at": "2026-03-09T17:00:00+01:00", "ok": true, "more": {"a": [1.10]}}\n{"id": 2, "extra": null}\n',
    )
    await put(
      place,
      'in/weights/a.parquet',
      await parquet(
        `SELECT 7::UTINYINT AS bed, 1.25::DECIMAL(9,3) AS weight, [1, NULL, 3] AS parts, '2026-03-09 17:00:00+00'::TIMESTAMPTZ AS "at" UNION ALL SELECT 8::UTINYINT, NULL, NULL, NULL`,
      ),
    )
    const { datasets } = await call<Catalogue>(
      url,
      'GET',
      `/connections/${systems.ids[place]}/catalogue?fresh=true`,
    )
    const types = datasets.map(({ name, fields }) => [
      name,
      fields.slice(2, -1).map(({ name, nativeType }) => `${name} ${nativeType}`),
    ])
    expect(types).toEqual([
      ['in/events', ['id decimal(38,0)', 'at timestamp with zone', 'ok bool', 'more json', 'extra text']],
      ['in/prices', ['sku text', 'price decimal(18,2)', 'since date', 'note text']],
      ['in/weights', ['bed uint8', 'weight decimal(9,3)', 'parts list of int32', 'at timestamp with zone']],
    ])
    // A second look finds what is known already.
    for (let look = 0; look < 2; look++) {
      const { rows: shown } = await call<Grid>(
        url,
        'GET',
        `/connections/${systems.ids[place]}/preview?${new URLSearchParams({ namespace: 'files', name: 'in/prices' })}`,
      )
      expect(shown).toHaveLength(3)
    }
    const id = await started(place, ['in/prices', 'in/events', 'in/weights'])
    expect(
      await rows(`SELECT _file, _line, sku, price, since, note FROM ${place}.in_prices ORDER BY 1, 2`),
    ).toEqual([
      ['a.csv', '2', '001', '12.50', '2026-01-02', null],
      ['a.csv', '3', '002', '7.00', '2026-02-03', 'a "b";\r\nc'],
      ['b.csv.gz', '2', '003', '1.99', '2026-02-04', ''],
    ])
    expect(await rows(`SELECT _line, id, "at", ok, more FROM ${place}.in_events ORDER BY 1`)).toEqual([
      ['1', '12345678901234567890', '2026-03-09 16:00:00+00', 'true', '{"a":[1.10]}'],
      ['2', '2', null, null, null],
    ])
    expect(await rows(`SELECT _line, bed, weight, parts, "at" FROM ${place}.in_weights ORDER BY 1`)).toEqual([
      ['1', '7', '1.250', '[1, NULL, 3]', '2026-03-09 17:00:00+00'],
      ['2', '8', null, null, null],
    ])
    // A new file, one that is written anew and shorter, and one that grows.
    await put(place, 'in/prices/c.csv', 'sku;price;since;note\n"004";5;2026-03-01;x\n')
    await put(place, 'in/prices/a.csv', 'sku;price;since;note\n"001";13;2026-01-02;\n')
    await put(place, 'in/events/1.jsonl', '{"id": 1}\n{"id": 2, "ok": false}\n{"id": 3}\n')
    await eventually(async () => {
      expect(await rows(`SELECT _file, sku, price FROM ${place}.in_prices ORDER BY 1, 2`)).toEqual([
        ['a.csv', '001', '13.00'],
        ['b.csv.gz', '003', '1.99'],
        ['c.csv', '004', '5.00'],
      ])
      expect(await rows(`SELECT id, ok FROM ${place}.in_events ORDER BY 1`)).toEqual([
        ['1', null],
        ['2', 'false'],
        ['3', null],
      ])
      return true
    }, 40)
    await call(url, 'POST', `/pipelines/${id}/stop`)
    await eventually(async () => (await statusOf(id)).state === 'Stopped', 20)
  }, 120_000)

  test('bad lines are held with their file and line, and land when they are corrected', async () => {
    await put(place, 'in/counts/1.csv', 'bed,plants\n1,10\n2,many\n3,30,40\n4,40\n')
    // What the first files say decides; the type of a number is said in the connection where it must be.
    const connection = await call<{ config: object; name: string }>(
      url,
      'GET',
      `/connections/${systems.ids[place]}`,
    )
    await call(url, 'PUT', `/connections/${systems.ids[place]}`, {
      name: connection.name,
      kind: place,
      config: { ...connection.config, types: 'in/counts.plants: int32' },
    })
    const id = await started(place, ['in/counts'])
    const counts = () => rows(`SELECT _line, bed, plants FROM ${place}.in_counts ORDER BY 1`)
    expect(await counts()).toEqual([
      ['2', '1', '10'],
      ['5', '4', '40'],
    ])
    const held = async () => {
      const { groups } = await call<HeldOverview>(url, 'GET', `/pipelines/${id}/held`)
      const records = groups.map(({ table, cause }) => {
        const asked = new URLSearchParams({ table: datasetId(table), cause })
        return call<HeldAnswer[]>(url, 'GET', `/pipelines/${id}/held/records?${asked}`)
      })
      return (await Promise.all(records)).flat()
    }
    const found = await held()
    expect(found.map(({ told }) => told)).toEqual(
      expect.arrayContaining([
        ['1.csv', '3'],
        ['1.csv', '4'],
      ]),
    )
    expect(found.map(({ reason }) => reason).join()).toMatch(/“many” is no int32, in plants/)
    expect(found.map(({ reason }) => reason).join()).toMatch(/it has 3 fields, and the first line 2/)
    await put(place, 'in/counts/2.csv', 'bed,plants\n7,"70\n8,80\n')
    await put(place, 'in/counts/1.csv', 'bed,plants\n1,10\n2,20\n3,30\n4,40\n')
    await eventually(async () => {
      expect((await counts()).map(([, ...row]) => row.join()).sort()).toEqual([
        '1,10',
        '2,20',
        '3,30',
        '4,40',
        // Behind a line that cannot be read it goes on.
        '8,80',
      ])
      const still = await held()
      expect(still.map(({ told }) => told)).toEqual([['2.csv', '2']])
      expect(still[0]!.reason).toMatch(/a quote begins in this line and does not end/)
      return true
    }, 40)
    await call(url, 'POST', `/pipelines/${id}/stop`)
  }, 120_000)

  test('another column stops with its name; a folder that is gone says so', async () => {
    await put(place, 'in/more/1.csv', 'bed,plants\n1,10\n')
    const id = await started(place, ['in/more'])
    await put(place, 'in/more/2.csv', 'bed,plants,colour\n2,20,red\n')
    await eventually(async () => (await statusOf(id)).state === 'Stopped', 40)
    expect((await statusOf(id)).reason?.message).toMatch(/colour is new/)
    if (place === 'folder') rmSync(join(systems.folder, 'drop/in/more'), { recursive: true })
  }, 90_000)
})
