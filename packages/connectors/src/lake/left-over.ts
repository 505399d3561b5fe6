/** Files that a writer which was ended has left, and that no manifest names. */
import type { Commit } from './commits.ts'
import type { ObjectStore } from './object-store.ts'
import { dataFolder, sequenceOf } from './paths.ts'
import { readManifest } from './read-manifests.ts'

/** A file has the number that was next when it was begun; others may have been published until it was. */
const LOOKED_BACK = 64

/** Only while nobody else writes. */
export async function leftOver(store: ObjectStore, tables: Commit['tables']): Promise<string[]> {
  const left: string[] = []
  for (const [folder, { sequence: newest }] of Object.entries(tables)) {
    const from = Math.max(1, newest - LOOKED_BACK)
    const files: string[] = []
    for await (const path of store.list(dataFolder(folder)))
      if ((sequenceOf(path) ?? 0) >= from) files.push(path)
    if (files.length === 0) continue
    const named = new Set<string>()
    for (let sequence = from; sequence <= newest; sequence++)
      for (const { path } of (await readManifest(store, folder, sequence))?.files ?? [])
        named.add(`${folder}/${path}`)
    left.push(...files.filter(path => !named.has(path)))
  }
  return left
}
