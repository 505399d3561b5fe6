/** Files that a writer which was ended has left, and that nothing names. */
import type { Commit } from './commits.ts'
import { filesOf, openMerged } from './merged/table.ts'
import type { ObjectStore } from './object-store.ts'
import { dataFolder, sequenceOf } from './paths.ts'
import { MERGED } from './publication.ts'
import { readManifest } from './read-manifests.ts'

/** A file has the number that was next when it was begun; others may have been published until it was. */
const LOOKED_BACK = 64

/** Only while nobody else writes. */
export async function leftOver(store: ObjectStore, tables: Commit['tables']): Promise<string[]> {
  const left: string[] = []
  for (const [folder, { sequence: newest, outline }] of Object.entries(tables)) {
    const from = Math.max(1, newest - LOOKED_BACK)
    const files: string[] = []
    for await (const path of store.list(dataFolder(folder)))
      if ((sequenceOf(path) ?? 0) >= from) files.push(path)
    if (files.length === 0) continue
    const named =
      outline === MERGED ? await inSnapshots(store, folder) : await inManifests(store, folder, from, newest)
    left.push(...files.filter(path => !named.has(path)))
  }
  return left
}

async function inManifests(
  store: ObjectStore,
  folder: string,
  from: number,
  newest: number,
): Promise<ReadonlySet<string>> {
  const numbers = Array.from({ length: newest - from + 1 }, (_, i) => from + i)
  const manifests = await Promise.all(numbers.map(sequence => readManifest(store, folder, sequence)))
  return new Set(
    manifests.flatMap(manifest => (manifest?.files ?? []).map(({ path }) => `${folder}/${path}`)),
  )
}

/** A version makes one snapshot at most, so that whatever has so high a number came with one of the last. */
async function inSnapshots(store: ObjectStore, folder: string): Promise<ReadonlySet<string>> {
  const table = await openMerged(store, folder)
  const snapshots = table?.metadata.snapshots.slice(-LOOKED_BACK - 1) ?? []
  const files = await Promise.all(snapshots.map(snapshot => filesOf(store, table!, snapshot)))
  return new Set(files.flat().map(({ path }) => `${folder}/${path}`))
}
