/** Kills writers of a lake anywhere, lets two of them write at once, loses answers; then everything is there once. */
import { fork, type ChildProcess } from 'node:child_process'
import { once } from 'node:events'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { gunzipSync } from 'node:zlib'
import { DuckDBInstance } from '@duckdb/node-api'
import { BucketStore } from '../../packages/connectors/src/bucket/bucket-store.ts'
import { bucket } from '../../packages/connectors/src/bucket/connector.ts'
import { folder } from '../../packages/connectors/src/folder/connector.ts'
import { settings } from '../../packages/connectors/src/bucket/config.ts'
import { FolderStore } from '../../packages/connectors/src/folder/folder-store.ts'
import { leftOver } from '../../packages/connectors/src/lake/left-over.ts'
import { Commits } from '../../packages/connectors/src/lake/commits.ts'
import { filesOf, openMerged } from '../../packages/connectors/src/lake/merged/table.ts'
import type { ObjectStore } from '../../packages/connectors/src/lake/object-store.ts'
import { StandInBucket } from '../../packages/stand-ins/src/bucket/bucket.ts'
import type { Random } from '../random.ts'

export interface Killed {
  kills: number
  /** Times that a second writer took over while the first one went on. */
  takeovers: number
  /** Answers that were lost, and errors of the store. */
  faults: number
  changes: number
  gaps: number
  doubled: number
  half: number
  /** Files that nobody names, when the last one has taken over. */
  left: number
}

const KEYS = { accessKeyId: 'osier', secretAccessKey: 'willow-and-water' }

export async function lakeKills(
  kind: 'folder' | 'bucket',
  format: 'json lines' | 'parquet' | 'merged',
  kills: number,
  random: Random,
): Promise<Killed> {
  const place = mkdtempSync(join(tmpdir(), 'constant-tide-kills-'))
  const chance = () => random.below(1_000_000) / 1_000_000
  let faults = 0
  // What makes Parquet takes a while to begin.
  const begins = format === 'merged' ? 600 : 20
  const standIn =
    kind === 'bucket'
      ? new StandInBucket({
          ...KEYS,
          bucket: 'growers',
          folder: join(place, 'objects'),
          port: 0,
          random: () => {
            const drawn = chance()
            if (drawn < 0.03) faults++
            return drawn
          },
        })
      : undefined
  const config: Record<string, string> = standIn
    ? { ...KEYS, endpoint: await standIn.listen(), bucket: 'growers' }
    : { path: join(place, 'lake') }
  if (standIn) Object.assign(standIn.faults, { failing: 0.03, lost: 0.03 })
  const store: ObjectStore = standIn ? new BucketStore(settings(config)) : new FolderStore(config.path!)
  const writers = new Set<ChildProcess>()
  let [epoch, takeovers] = [0, 0]
  const begin = async (): Promise<ChildProcess> => {
    for (;;) {
      const said = JSON.stringify({ kind, config, epoch: ++epoch, format })
      const child = fork(new URL('./writer.ts', import.meta.url), [said], {
        execArgv: ['--import', 'tsx', '--no-warnings'],
        stdio: ['ignore', 'ignore', 'ignore', 'ipc'],
      })
      writers.add(child)
      child.once('exit', () => writers.delete(child))
      const up = await Promise.race([
        once(child, 'message').then(() => true),
        once(child, 'exit').then(() => false),
      ])
      if (up) return child
    }
  }
  const ended = (child: ChildProcess) => (writers.has(child) ? once(child, 'exit') : Promise.resolve())
  try {
    for (let i = 0; i < kills; i++) {
      const first = await begin()
      await sleep(begins + random.below(250))
      if (i % 3 === 1) {
        takeovers++
        const second = await begin()
        await sleep(begins + random.below(200))
        second.kill('SIGKILL')
        await ended(second)
      }
      first.kill('SIGKILL')
      await ended(first)
    }
    if (standIn) Object.assign(standIn.faults, { failing: 0, lost: 0 })
    const last = await begin()
    last.kill('SIGKILL')
    await ended(last)
    // Whoever takes over removes what was under way.
    const session = await (kind === 'bucket' ? bucket : folder).open(config)
    await session.target!.takeCheckpoint('kills', ++epoch, 0)
    await session.close()
    const commits = new Commits(store, 'kills')
    const { tables, checkpoint } = (await commits.look())!
    const left = (await leftOver(store, tables)).length
    const result = { kills, takeovers, faults, changes: 0, gaps: 0, doubled: 0, half: 0, left }
    const upTo = Number((JSON.parse(checkpoint!.position) as { at: string }).at)
    for (const table of Object.keys(tables)) {
      const seen = new Set<number>()
      for (const number of await (format === 'merged'
        ? numbersIn(store, table, place)
        : numbersOf(store, table, format, place))) {
        if (seen.has(number)) result.doubled++
        seen.add(number)
      }
      result.changes += seen.size
      for (let number = 1; number <= upTo; number++) if (!seen.has(number)) result.gaps++
      // Both tables of a transaction are there, or neither.
      if (seen.size > upTo) result.half += seen.size - upTo
    }
    return result
  } finally {
    for (const child of writers) child.kill('SIGKILL')
    await store.close()
    await standIn?.close()
    rmSync(place, { recursive: true, force: true })
  }
}

const sleep = (milliseconds: number) => new Promise(resolve => setTimeout(resolve, milliseconds))

/** By the guide: manifest after manifest, and the files that they name. */
async function numbersOf(
  store: ObjectStore,
  folder: string,
  format: 'json lines' | 'parquet',
  place: string,
): Promise<number[]> {
  const numbers: number[] = []
  for (let sequence = 1; ; sequence++) {
    const manifest = await store.read(`${folder}/manifest/${String(sequence).padStart(12, '0')}.json`)
    if (!manifest) return numbers
    const { files } = JSON.parse(Buffer.from(manifest).toString()) as {
      files: { path: string; rows: number }[]
    }
    for (const { path, rows } of files) {
      const body = await store.read(`${folder}/${path}`)
      if (!body) throw new Error(`${folder}/${path} is named, and is not there`)
      const found =
        format === 'parquet'
          ? await ofParquet(store, `${folder}/${path}`, join(place, 'read.parquet'))
          : ofLines(gunzipSync(body).toString())
      if (found.length !== rows) throw new Error(`${path}: ${found.length} rows, where ${rows} are told`)
      numbers.push(...found)
    }
  }
}

/** Of a merged table, by its newest metadata. */
async function numbersIn(store: ObjectStore, folder: string, place: string): Promise<number[]> {
  const table = await openMerged(store, folder)
  const numbers: number[] = []
  for (const { path } of await filesOf(store, table!))
    numbers.push(...(await ofParquet(store, `${folder}/${path}`, join(place, 'read.parquet'))))
  return numbers
}

function ofLines(text: string): number[] {
  return text
    .trimEnd()
    .split('\n')
    .map(line => (JSON.parse(line) as { number: number }).number)
}

async function ofParquet(store: ObjectStore, path: string, to: string): Promise<number[]> {
  await store.fetch(path, to)
  const instance = await DuckDBInstance.create(':memory:')
  const connection = await instance.connect()
  const read = await connection.runAndReadAll(`SELECT number FROM read_parquet('${to}')`)
  const numbers = read.getRows().map(([number]) => Number(number))
  connection.disconnectSync()
  instance.closeSync()
  return numbers
}
