/** Finds manifests: their numbers have no gap, so that the newest is found by a few looks. */
import { jsonOf, manifestSchema, tableSchemaSchema, type Manifest, type TableSchema } from './manifest.ts'
import type { ObjectStore } from './object-store.ts'
import { manifestPath, schemaPath } from './paths.ts'

export async function readManifest(
  store: ObjectStore,
  folder: string,
  sequence: number,
): Promise<Manifest | undefined> {
  return jsonOf(manifestSchema, await store.read(manifestPath(folder, sequence)))
}

/** `from`: one that is known to be there, or 0. Undefined where there is none. */
export async function newestManifest(
  store: ObjectStore,
  folder: string,
  from = 0,
): Promise<Manifest | undefined> {
  let there = from === 0 ? undefined : await readManifest(store, folder, from)
  let [low, step] = [from, 1]
  let high: number
  for (;;) {
    const next = await readManifest(store, folder, low + step)
    if (!next) {
      high = low + step
      break
    }
    there = next
    low += step
    step *= 2
  }
  while (high - low > 1) {
    const middle = Math.floor((low + high) / 2)
    const found = await readManifest(store, folder, middle)
    if (found) [low, there] = [middle, found]
    else high = middle
  }
  return there
}

export async function readSchema(
  store: ObjectStore,
  folder: string,
  id: number,
): Promise<TableSchema | undefined> {
  return jsonOf(tableSchemaSchema, await store.read(schemaPath(folder, id)))
}
