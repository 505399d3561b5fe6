/** Tables of change files: their newest manifests, and the files that are of use. */
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
