/** The tables of a lake, of either kind, as they are read. */
import type { TableVersion } from '@tide/core/api/browse'
import { Failure } from '@tide/core/failure'
import type { Column } from '@tide/core/records/column'
import { printName, type DatasetName } from '@tide/core/records/dataset'
import { duckdbLogical } from '@tide/core/shape/duckdb'
import { ident } from '../duckdb/sql.ts'
import { ChangeTables } from './change-tables.ts'
import { currentSchema, currentSnapshot, OWN, snapshotAt, type Snapshot } from './merged/metadata.ts'
import { selectMerged } from './merged/select.ts'
import { filesOf, openMerged, schemaOf, type MergedTable } from './merged/table.ts'
import type { ObjectStore } from './object-store.ts'
import { tableFolder, tableOf } from './paths.ts'
import { selectFrom } from './views.ts'

/** What is read of a table: files, and the SELECT that has their rows. `at`: where a path is locally. */
export interface Reading {
  /** Of its columns. */
  names: readonly string[]
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
  versions(most: number): Promise<TableVersion[]>
  /** As it was then; undefined: there is no such version. */
  at(version: string): Promise<Reading | undefined>
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
    const [merged, table] = await Promise.all([openMerged(this.store, folder), this.changes.at(folder)])
    // One that was the one and became the other is what was written last.
    const since = table ? Date.parse(table.newest.landedAt) : 0
    if (merged && merged.metadata['last-updated-ms'] >= since) return this.merged(merged, tableOf(folder)!)
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
      versions: most => this.changes.versions(table, most),
      at: async version => {
        const groups = await this.changes.groupsOf(table, version)
        return (
          groups && {
            names: schema.columns.map(({ name }) => name),
            paths: groups.flatMap(({ paths }) => paths),
            select: at => selectFrom(groups, schema, at),
          }
        )
      },
      read: async some => {
        const groups = await this.changes.groups(table, some)
        return {
          names: schema.columns.map(({ name }) => name),
          paths: groups.flatMap(({ paths }) => paths),
          select: at => selectFrom(groups, schema, at),
        }
      },
    }
  }

  private merged(table: MergedTable, name: DatasetName): LakeTable {
    const { metadata } = table
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
      versions: most => Promise.resolve(versionsOf(table, most)),
      at: async version => {
        const snapshot = snapshotAt(metadata, Number(version))
        return snapshot && this.readMerged(table, snapshot)
      },
      read: () => this.readMerged(table, currentSnapshot(metadata)),
    }
  }

  /** With the columns that it had then. */
  private async readMerged(table: MergedTable, snapshot: Snapshot | undefined): Promise<Reading> {
    const files = await filesOf(this.store, table, snapshot)
    // What was altered since the newest snapshot is so already.
    const newest = snapshot === currentSnapshot(table.metadata)
    const schema = newest ? currentSchema(table.metadata) : schemaOf(table, snapshot)
    const names = schema.fields.map(field => field.name)
    const list = names.map(name => ident(name)).join(', ')
    return {
      names,
      paths: files.map(({ path }) => `${table.folder}/${path}`),
      select: at => `SELECT ${list} FROM (${selectMerged(table, files, at, names, schema)})`,
    }
  }
}

function versionsOf({ metadata }: MergedTable, most: number): TableVersion[] {
  const number = (summary: Snapshot['summary'], name: string) => Number(summary[name] ?? 0)
  return metadata.snapshots
    .slice(-most)
    .reverse()
    .map(({ summary, ...snapshot }) => ({
      id: String(snapshot['snapshot-id']),
      at: new Date(snapshot['timestamp-ms']).toISOString(),
      operation: summary.operation ?? '',
      // Files that were written anew hold rows that are as before.
      added: number(summary, summary[OWN.put] === undefined ? 'added-records' : OWN.put),
      removed: number(summary, summary[OWN.gone] === undefined ? 'deleted-records' : OWN.gone),
      rows: number(summary, 'total-records'),
      files: number(summary, 'total-data-files'),
      position: summary[OWN.position] ?? null,
      completeUpTo: summary[OWN.completeUpTo] ?? null,
    }))
}
