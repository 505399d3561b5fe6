/** The tables of a lake, of either kind, as they are read. */
import { Failure } from '@tide/core/failure'
import type { Column } from '@tide/core/records/column'
import { printName, type DatasetName } from '@tide/core/records/dataset'
import { duckdbLogical } from '@tide/core/shape/duckdb'
import { ident } from '../duckdb/sql.ts'
import { ChangeTables } from './change-tables.ts'
import { currentSchema, currentSnapshot, OWN } from './merged/metadata.ts'
import { selectMerged } from './merged/select.ts'
import { filesOf, openMerged, type MergedTable } from './merged/table.ts'
import type { ObjectStore } from './object-store.ts'
import { tableFolder, tableOf } from './paths.ts'
import { selectFrom } from './views.ts'

/** What is read of a table: files, and the SELECT that has their rows. `at`: where a path is locally. */
export interface Reading {
  paths: string[]
  select(at: (path: string) => string): string
}

export interface LakeTable extends DatasetName {
  columns: readonly Column[]
  /** Of a merged table. */
  key: readonly string[]
  rows: number
  bytes: number
  /** Its rows are changes, the newest last. */
  tellsChanges: boolean
  /** All of it, or files that hold so many rows, those of the newest changes. */
  read(rows?: number): Promise<Reading>
}

export class LakeTables {
  private readonly store: ObjectStore
  private readonly changes: ChangeTables

  constructor(store: ObjectStore) {
    this.store = store
    this.changes = new ChangeTables(store)
  }

  async all(): Promise<LakeTable[]> {
    const folders = (await this.store.folders('')).filter(folder => tableOf(folder) !== undefined).sort()
    const tables = await Promise.all(folders.map(folder => this.at(folder)))
    return tables.flatMap(table => table ?? [])
  }

  async of(table: DatasetName): Promise<LakeTable> {
    const found = await this.at(tableFolder(table))
    if (found) return found
    throw new Failure(
      'refused',
      `There is no table ${printName(table)} in ${this.store.where}.`,
      'Choose one of the catalogue.',
    )
  }

  private async at(folder: string): Promise<LakeTable | undefined> {
    const merged = await openMerged(this.store, folder)
    if (merged) return this.merged(merged, tableOf(folder)!)
    const table = await this.changes.at(folder)
    if (!table) return undefined
    const { schema, newest } = table
    const { rows, bytes } = newest.total
    return {
      ...schema.table,
      columns: schema.columns.map(column => ({ ...column, nullable: true })),
      key: [],
      rows,
      bytes,
      tellsChanges: true,
      read: async some => {
        const groups = await this.changes.groups(table, some)
        return {
          paths: groups.flatMap(({ paths }) => paths),
          select: at => selectFrom(groups, schema, at),
        }
      },
    }
  }

  private merged(table: MergedTable, name: DatasetName): LakeTable {
    const { folder, metadata } = table
    const { summary } = currentSnapshot(metadata) ?? {}
    const { fields } = currentSchema(metadata)
    const key = JSON.parse(metadata.properties[OWN.key] ?? '[]') as string[]
    return {
      ...name,
      columns: fields.map(({ name, doc }) => ({
        name,
        type: duckdbLogical(doc === 'TIMESTAMPTZ' ? 'TIMESTAMP WITH TIME ZONE' : doc),
        nativeType: doc,
        nullable: !key.includes(name),
      })),
      key,
      rows: Number(summary?.['total-records'] ?? 0),
      bytes: Number(summary?.['total-files-size'] ?? 0),
      tellsChanges: false,
      read: async () => {
        const files = await filesOf(this.store, table)
        const names = fields.map(field => field.name)
        const list = names.map(name => ident(name)).join(', ')
        return {
          paths: files.map(({ path }) => `${folder}/${path}`),
          select: at => `SELECT ${list} FROM (${selectMerged(table, files, at, names)})`,
        }
      },
    }
  }
}
