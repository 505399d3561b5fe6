/** Tables of change files: their newest manifests, and the files that are of use. */
import type { TableVersion } from '@tide/core/api/browse'
import { Failure } from '@tide/core/failure'
import type { DataFile, Manifest, TableSchema } from './manifest.ts'
import type { ObjectStore } from './object-store.ts'
import { newestManifest, readManifest, readSchema } from './read-manifests.ts'

/** Files that are read alike. */
export interface FileGroup extends Pick<Manifest, 'format' | 'compress'> {
  schema: TableSchema
  /** From the top of the lake on, in the order in which they were published. */
  paths: string[]
}

export interface ChangeTable {
  folder: string
  newest: Manifest
  schema: TableSchema
}

/** The files since all began anew last, and up to which manifest. */
interface Known {
  sequence: number
  files: { manifest: Omit<Manifest, 'files'>; files: DataFile[] }[]
}

/** So many manifests are looked at for those that tell of changes. */
const LOOKED_BACK = 500

export class ChangeTables {
  private readonly store: ObjectStore
  private readonly known = new Map<string, Known>()
  private readonly schemas = new Map<string, TableSchema>()

  constructor(store: ObjectStore) {
    this.store = store
  }

  /** All files that are of use, those of one kind together; of the newest manifests alone, where `rows` of them are enough. */
  async groups(table: ChangeTable, rows = Infinity): Promise<FileGroup[]> {
    const known = await this.files(table)
    const groups: FileGroup[] = []
    const some: Known['files'] = []
    let sum = 0
    for (let i = known.length - 1; i >= 0 && sum < rows; i--) {
      some.unshift(known[i]!)
      sum += known[i]!.manifest.rows
    }
    for (const { manifest, files } of some) {
      const { format, compress, schema: id } = manifest
      let last = groups.at(-1)
      if (!last || last.schema.id !== id || last.format !== format || last.compress !== compress) {
        last = { schema: await this.schema(table.folder, id), format, compress, paths: [] }
        groups.push(last)
      }
      for (const { path } of files) last.paths.push(`${table.folder}/${path}`)
    }
    return groups
  }

  /** The newest manifests that say more than their number. */
  async versions({ folder, newest }: ChangeTable, most: number): Promise<TableVersion[]> {
    const found: TableVersion[] = []
    const from = Math.max(1, newest.sequence - LOOKED_BACK)
    for (let sequence = newest.sequence; sequence >= from && found.length < most; sequence--) {
      const manifest = await readManifest(this.store, folder, sequence)
      if (!manifest) break
      const { kind, reset, rows, total, landedAt, position, completeUpTo } = manifest
      if (kind === 'none' && !reset) continue
      found.push({
        id: String(sequence),
        at: landedAt,
        operation: reset ? 'anew' : kind,
        added: rows,
        removed: 0,
        rows: total.rows,
        files: total.files,
        position,
        completeUpTo,
      })
    }
    return found
  }

  /** The files of one manifest; undefined: there is none of that number. */
  async groupsOf({ folder, newest }: ChangeTable, version: string): Promise<FileGroup[] | undefined> {
    const sequence = Number(version)
    if (!(sequence >= 1 && sequence <= newest.sequence)) return undefined
    const manifest = await readManifest(this.store, folder, sequence)
    if (!manifest) return undefined
    const { schema, format, compress, files } = manifest
    if (files.length === 0) return []
    const paths = files.map(({ path }) => `${folder}/${path}`)
    return [{ schema: await this.schema(folder, schema), format, compress, paths }]
  }

  /** Undefined where there are no change files. */
  async at(folder: string): Promise<ChangeTable | undefined> {
    const newest = await newestManifest(this.store, folder, this.known.get(folder)?.sequence ?? 0)
    return newest && { folder, newest, schema: await this.schema(folder, newest.schema) }
  }

  /** Manifests do not change: each is read once. */
  private async files({ folder, newest }: ChangeTable): Promise<Known['files']> {
    const known = this.known.get(folder) ?? { sequence: 0, files: [] }
    let files = [...known.files]
    for (let sequence = known.sequence + 1; sequence <= newest.sequence; sequence++) {
      const manifest =
        sequence === newest.sequence ? newest : await readManifest(this.store, folder, sequence)
      if (!manifest) throw this.unreadable(folder, `manifest ${sequence}`)
      if (manifest.reset) files = []
      const { files: own, ...rest } = manifest
      if (own.length > 0) files.push({ manifest: rest, files: own })
    }
    this.known.set(folder, { sequence: newest.sequence, files })
    return files
  }

  private async schema(folder: string, id: number): Promise<TableSchema> {
    const name = `${folder} ${id}`
    const schema = this.schemas.get(name) ?? (await readSchema(this.store, folder, id))
    if (!schema) throw this.unreadable(folder, `schema ${id}`)
    this.schemas.set(name, schema)
    return schema
  }

  private unreadable(folder: string, what: string): Failure {
    return new Failure(
      'structural',
      `${this.store.where}: ${what} of ${folder} is not there, or cannot be read.`,
      'Was something removed there by hand? Put it back, or start its pipeline again.',
    )
  }
}
