/** The bucket's connector against the stand-in: what the client sends is checked there as a store checks it. */
import { afterEach, beforeEach, expect, test } from '@jest/globals'
import type { CheckItem } from '@tide/core/api/browse'
import type { Failure } from '@tide/core/failure'
import { mkdtempSync, readFileSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { StandInBucket } from '../../stand-ins/src/bucket/bucket.ts'
import { BucketStore } from '../src/bucket/bucket-store.ts'
import { bucket as connector } from '../src/bucket/connector.ts'
import { settings } from '../src/bucket/config.ts'

const KEYS = { accessKeyId: 'osier', secretAccessKey: 'willow-and-water' }
let folder: string
let standIn: StandInBucket
let config: Record<string, string>
let store: BucketStore

async function begin(more: { aheadMs?: number; random?: () => number } = {}): Promise<void> {
  folder = mkdtempSync(join(tmpdir(), 'constant-tide-bucket-'))
  standIn = new StandInBucket({
    ...KEYS,
    bucket: 'growers',
    folder: join(folder, 'objects'),
    port: 0,
    ...more,
  })
  config = { ...KEYS, endpoint: await standIn.listen(), bucket: 'growers', prefix: 'lake' }
  store = new BucketStore(settings(config))
}
async function end(): Promise<void> {
  await store.close()
  await standIn.close()
  rmSync(folder, { recursive: true, force: true })
}
beforeEach(() => begin())
afterEach(end)

async function* of(...parts: Uint8Array[]): AsyncGenerator<Uint8Array> {
  for (const part of parts) yield await Promise.resolve(part)
}

async function all<T>(some: AsyncIterable<T>): Promise<T[]> {
  const found: T[] = []
  for await (const one of some) found.push(one)
  return found
}

const checked = () => all<CheckItem>(connector.check(config))
const failedWith = async () => (await checked()).find(({ result }) => result === 'failed')

test('files go there whole, large ones in parts; listed in order, page by page; and away', async () => {
  const large = Buffer.alloc(20 * 2 ** 20, 'willow ')
  await store.put('a.b/data/large', of(large.subarray(0, 1), large.subarray(1)))
  await store.fetch('a.b/data/large', join(folder, 'here'))
  expect(Buffer.compare(readFileSync(join(folder, 'here')), large)).toBe(0)
  const names = Array.from({ length: 1010 }, (_, i) => `many/x ${String(i).padStart(5, '0')} +&é.json`)
  for (const name of names) standIn.objects.put(`lake/${name}`, Buffer.from(name))
  expect(await all(store.list('many/'))).toEqual(names)
  expect(await all(store.list('many/', names[1005]))).toEqual(names.slice(1006))
  expect(Buffer.from((await store.read(names[7]!))!).toString()).toBe(names[7])
  expect(await store.folders('')).toEqual(['a.b', 'many'])
  await store.remove(names)
  expect(await all(store.list('many/'))).toEqual([])
  expect(await store.read('many/none')).toBeUndefined()
}, 30_000)

test('of two who make a file one has made it, also when answers are lost', async () => {
  let turn = 0
  standIn.faults.lost = 0.5
  await end()
  await begin({ random: () => (turn++ % 3 === 1 ? 0 : 1) })
  standIn.faults.lost = 0.5
  for (let i = 0; i < 12; i++) {
    await Promise.all(['one', 'other'].map(who => store.create(`made/${i}`, Buffer.from(who))))
    const is = Buffer.from((await store.read(`made/${i}`))!).toString()
    expect(['one', 'other']).toContain(is)
    await store.create(`made/${i}`, Buffer.from('third'))
    expect(Buffer.from((await store.read(`made/${i}`))!).toString()).toBe(is)
  }
}, 60_000)

test('the test goes through all that is done, and says what is wrong and what to do', async () => {
  expect((await checked()).map(({ what, result }) => `${what}: ${result}`)).toEqual([
    'List files: ok',
    'Write a file: ok',
    'Write a file only once: ok',
    'Read it back: ok',
    'Delete it: ok',
  ])
  const right = config
  config = { ...right, bucket: 'elsewhere' }
  expect(await failedWith()).toMatchObject({
    found: expect.stringContaining('There is no bucket elsewhere'),
  })
  config = { ...right, secretAccessKey: 'wrong' }
  expect(await failedWith()).toMatchObject({ found: expect.stringContaining('secret key is not that of') })
  config = { ...right, accessKeyId: 'nobody' }
  expect(await failedWith()).toMatchObject({ remedy: 'Correct it in the connection.' })
  config = right
  standIn.faults.keeps = true
  expect(await failedWith()).toMatchObject({
    what: 'Delete it',
    paste: expect.stringContaining('s3:DeleteObject'),
  })
  standIn.faults.keeps = false
  standIn.faults.plain = true
  expect(await failedWith()).toMatchObject({ remedy: expect.stringContaining('If-None-Match') })
  standIn.faults.plain = false
  standIn.faults.full = true
  const full = await store.create('x', Buffer.from('x')).catch((thrown: unknown) => thrown as Failure)
  expect(full).toMatchObject({ kind: 'transient', message: expect.stringContaining('no room') })
}, 60_000)

test('a clock that is wrong is named', async () => {
  await end()
  await begin({ aheadMs: 8 * 60_000 })
  expect((await checked()).find(({ what }) => what === 'Compare clocks')).toMatchObject({ result: 'warning' })
})
