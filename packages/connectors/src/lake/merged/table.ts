/** A merged table of a lake: an Iceberg table whose every version is one metadata file that can be made only once. */
import type { Column } from '@tide/core/records/column'
import { Failure } from '@tide/core/failure'
import type { Alteration } from '@tide/core/plan/alteration'
import { randomInt, randomUUID } from 'node:crypto'
import { jsonOf } from '../manifest.ts'
import type { ObjectStore } from '../object-store.ts'
import { hintPath, metadataFolder, metadataPath } from '../paths.ts'
import {
  entriesIn,
  manifestBytes,
  manifestListBytes,
  manifestsIn,
  STATUS,
  type ManifestEntry,
} from './avro.ts'
import { fieldOf, type IcebergSchema } from './fields.ts'
import {
  currentSchema,
  currentSnapshot,
  firstMetadata,
  metadataSchema,
  OWN,
  schemaAt,
  type Metadata,
  type Snapshot,
} from './metadata.ts'

/** A data file of a snapshot. */
export interface LiveFile {
  /** From the table's folder on. */
  path: string
  rows: number
  bytes: number
  /** The snapshot and the sequence number that it came with. */
  snapshot: number
  sequence: number
}

export interface MergedTable {
  folder: string
  /** Of its newest metadata. */
  version: number
  metadata: Metadata
}

/** Beyond so many snapshots the oldest go, until so many are left. */
const MOST_SNAPSHOTS = 200
const LEFT_SNAPSHOTS = 150
/** So many earlier versions of the metadata stay, for those who read one just now. */
const KEPT_VERSIONS = 50

/** By way of the hint, which may be behind. Undefined: there is no such table. */
export async function openMerged(store: ObjectStore, folder: string): Promise<MergedTable | undefined> {
  const hint = Number(Buffer.from((await store.read(hintPath(folder))) ?? []).toString())
  let version = Number.isInteger(hint) && hint > 0 ? hint : 1
  let found = await metadataAt(store, folder, version)
  if (!found) {
    // Earlier versions are removed, and a hint may be lost.
    version = await newestVersion(store, folder)
    found = version === 0 ? undefined : await metadataAt(store, folder, version)
  }
  while (found) {
    const next = await metadataAt(store, folder, version + 1)
    if (!next) return { folder, version, metadata: found }
    version++
    found = next
  }
  return undefined
}

async function newestVersion(store: ObjectStore, folder: string): Promise<number> {
  let newest = 0
  for await (const path of store.list(metadataFolder(folder))) {
    const [, version] = /\/v(\d+)\.metadata\.json$/.exec(path) ?? []
    if (version !== undefined) newest = Math.max(newest, Number(version))
  }
  return newest
}

/** What is of no use any more now that this version is there: earlier ones, and files of snapshots that it has no more. */
export async function expiredWith(
  store: ObjectStore,
  before: MergedTable,
  now: MergedTable,
): Promise<string[]> {
  const { folder, version } = now
  const old = version - KEPT_VERSIONS
  const versions = old > 0 ? [metadataPath(folder, old)] : []
  const kept = new Set(now.metadata.snapshots.map(one => one['snapshot-id']))
  const gone = before.metadata.snapshots.filter(one => !kept.has(one['snapshot-id']))
  if (gone.length === 0) return versions
  // A file that has gone does not come back, so that those of the oldest snapshot that is left are all that is shared.
  const [oldest] = now.metadata.snapshots
  const live = new Set((await filesOf(store, now, oldest)).map(({ path }) => path))
  const dead = new Set<string>()
  for (const snapshot of gone) {
    const list = withinTable(snapshot['manifest-list'], before.metadata, folder)
    dead.add(list)
    for (const { manifest_path } of await manifestsIn(await there(store, list)))
      dead.add(withinTable(manifest_path, before.metadata, folder))
    for (const { path } of await filesOf(store, before, snapshot))
      if (!live.has(path)) dead.add(`${folder}/${path}`)
  }
  return [...versions, ...dead]
}

async function metadataAt(
  store: ObjectStore,
  folder: string,
  version: number,
): Promise<Metadata | undefined> {
  const bytes = await store.read(metadataPath(folder, version))
  if (!bytes) return undefined
  const metadata = jsonOf(metadataSchema, bytes)
  if (metadata) return metadata
  throw new Failure(
    'structural',
    `${store.where}: ${metadataPath(folder, version)} cannot be read as the metadata of an Iceberg table of version 2.`,
    'Was it written by something else? Name the table otherwise.',
  )
}

/** The files of a snapshot; by default of the newest. */
export async function filesOf(
  store: ObjectStore,
  { folder, metadata }: MergedTable,
  snapshot: Snapshot | undefined = currentSnapshot(metadata),
): Promise<LiveFile[]> {
  if (!snapshot) return []
  const within = (path: string) => withinTable(path, metadata, folder)
  const files: LiveFile[] = []
  for (const { manifest_path } of await manifestsIn(await there(store, within(snapshot['manifest-list'])))) {
    for (const entry of await entriesIn(await there(store, within(manifest_path)))) {
      if (entry.status === STATUS.deleted) continue
      const { file_path, record_count, file_size_in_bytes } = entry.data_file
      files.push({
        path: within(file_path).slice(folder.length + 1),
        rows: record_count,
        bytes: file_size_in_bytes,
        snapshot: entry.snapshot_id ?? snapshot['snapshot-id'],
        sequence: entry.sequence_number ?? snapshot['sequence-number'],
      })
    }
  }
  return files
}

async function there(store: ObjectStore, path: string): Promise<Uint8Array> {
  const bytes = await store.read(path)
  if (bytes) return bytes
  throw new Failure(
    'structural',
    `${store.where}: ${path} is not there, and the table’s metadata names it.`,
    'Was something removed there by hand? Put it back, or recopy the lane.',
  )
}

/** From the top of the lake on. */
function withinTable(path: string, { location }: Metadata, folder: string): string {
  if (!path.startsWith(`${location}/`))
    throw new Failure(
      'structural',
      `The table in ${folder} names a file beyond its own folder: ${path}.`,
      'It was made by something else, or moved; recopy the lane into another name.',
    )
  return `${folder}${path.slice(location.length)}`
}

/** `before`: what is there under this name. Its snapshots stay; the new table begins empty. */
export function begun(
  folder: string,
  location: string,
  columns: readonly Column[],
  key: readonly string[],
  before: MergedTable | undefined,
  now: number,
): MergedTable {
  let last = before?.metadata['last-column-id'] ?? 0
  const next = () => ++last
  const fields = columns.map(column => fieldOf(column, next))
  const id = before ? Math.max(...before.metadata.schemas.map(schema => schema['schema-id'])) + 1 : 0
  const schema: IcebergSchema = {
    type: 'struct',
    'schema-id': id,
    'identifier-field-ids': [],
    fields,
  }
  const metadata = before
    ? {
        ...before.metadata,
        'last-column-id': last,
        'current-schema-id': id,
        schemas: [...before.metadata.schemas, schema],
      }
    : firstMetadata(randomUUID(), location, now, schema, last)
  const properties = { ...metadata.properties, [OWN.key]: JSON.stringify(key) }
  return { folder, version: before?.version ?? 0, metadata: { ...metadata, properties } }
}

/** Fields keep their ids under other names, so that what is there of them stays. */
export function altered(table: MergedTable, { drops, renames, adds }: Alteration): MergedTable {
  const { metadata } = table
  let last = metadata['last-column-id']
  const before = currentSchema(metadata)
  const names = new Map(renames.map(({ from, to }) => [from, to]))
  const kept = before.fields
    .filter(({ name }) => !drops.includes(name))
    .map(field => ({ ...field, name: names.get(field.name) ?? field.name }))
  const id = Math.max(...metadata.schemas.map(schema => schema['schema-id'])) + 1
  const schema: IcebergSchema = {
    ...before,
    'schema-id': id,
    fields: [...kept, ...adds.map(column => fieldOf(column, () => ++last))],
  }
  const key = JSON.parse(metadata.properties[OWN.key] ?? '[]') as string[]
  return {
    ...table,
    metadata: {
      ...metadata,
      'last-column-id': last,
      'current-schema-id': id,
      schemas: [...metadata.schemas, schema],
      properties: {
        ...metadata.properties,
        [OWN.key]: JSON.stringify(key.map(name => names.get(name) ?? name)),
      },
    },
  }
}

export interface SnapshotToBe {
  /** All files there are then. */
  files: readonly LiveFile[]
  /** Those among them that are new, and those that were there and are not. */
  added: readonly Pick<LiveFile, 'path' | 'rows' | 'bytes'>[]
  removed: readonly LiveFile[]
  summary: Record<string, string>
}

/** The table with one more snapshot, whose manifests are written; it is there when its metadata is. */
export async function withSnapshot(
  store: ObjectStore,
  table: MergedTable,
  { files, added, removed, summary }: SnapshotToBe,
  now: number,
): Promise<{ table: MergedTable; files: LiveFile[] }> {
  const { folder, metadata } = table
  const id = randomInt(1, 2 ** 48 - 1)
  const sequence = metadata['last-sequence-number'] + 1
  const absolute = (path: string) => `${metadata.location}/${path}`
  const entry = (
    status: number,
    { path, rows, bytes }: Pick<LiveFile, 'path' | 'rows' | 'bytes'>,
    of: Pick<LiveFile, 'snapshot' | 'sequence'>,
  ): ManifestEntry => ({
    status,
    snapshot_id: status === STATUS.deleted ? id : of.snapshot,
    sequence_number: of.sequence,
    file_sequence_number: of.sequence,
    data_file: {
      content: 0,
      file_path: absolute(path),
      file_format: 'PARQUET',
      partition: {},
      record_count: rows,
      file_size_in_bytes: bytes,
    },
  })
  const fresh = added.map(file => ({ ...file, snapshot: id, sequence }))
  const entries = [
    ...files.map(file => entry(STATUS.existing, file, file)),
    ...fresh.map(file => entry(STATUS.added, file, file)),
    ...removed.map(file => entry(STATUS.deleted, file, file)),
  ]
  const manifest = `metadata/${randomUUID()}-m0.avro`
  const body = await manifestBytes(entries, currentSchema(metadata))
  await store.create(`${folder}/${manifest}`, body)
  const rows = (some: readonly { rows: number }[]) => some.reduce((sum, file) => sum + file.rows, 0)
  const list = `metadata/snap-${id}-${randomUUID()}.avro`
  const parent = metadata['current-snapshot-id'] ?? null
  const all = [...files, ...fresh]
  await store.create(
    `${folder}/${list}`,
    await manifestListBytes(
      [
        {
          manifest_path: absolute(manifest),
          manifest_length: body.length,
          partition_spec_id: 0,
          content: 0,
          sequence_number: sequence,
          min_sequence_number: Math.min(
            sequence,
            ...all.map(file => file.sequence),
            ...removed.map(file => file.sequence),
          ),
          added_snapshot_id: id,
          added_files_count: fresh.length,
          existing_files_count: files.length,
          deleted_files_count: removed.length,
          added_rows_count: rows(fresh),
          existing_rows_count: rows(files),
          deleted_rows_count: rows(removed),
        },
      ],
      { id, parent, sequence },
    ),
  )
  // Readers want times that rise.
  const at = Math.max(now, metadata['last-updated-ms'] + 1)
  const snapshot: Snapshot = {
    'snapshot-id': id,
    ...(parent === null ? {} : { 'parent-snapshot-id': parent }),
    'sequence-number': sequence,
    'timestamp-ms': at,
    'manifest-list': absolute(list),
    summary: {
      operation: removed.length > 0 ? (all.length === 0 ? 'delete' : 'overwrite') : 'append',
      'added-data-files': String(fresh.length),
      'deleted-data-files': String(removed.length),
      'added-records': String(rows(fresh)),
      'deleted-records': String(rows(removed)),
      'total-data-files': String(all.length),
      'total-records': String(rows(all)),
      'total-files-size': String(all.reduce((sum, { bytes }) => sum + bytes, 0)),
      ...summary,
    },
    'schema-id': metadata['current-schema-id'],
  }
  const grown = [...metadata.snapshots, snapshot]
  const snapshots = grown.length > MOST_SNAPSHOTS ? grown.slice(-LEFT_SNAPSHOTS) : grown
  const kept = new Set(snapshots.map(one => one['snapshot-id']))
  return {
    table: {
      ...table,
      metadata: {
        ...metadata,
        'last-sequence-number': sequence,
        'last-updated-ms': at,
        'current-snapshot-id': id,
        refs: { main: { 'snapshot-id': id, type: 'branch' } },
        snapshots,
        'snapshot-log': [...metadata['snapshot-log'], { 'timestamp-ms': at, 'snapshot-id': id }].filter(one =>
          kept.has(one['snapshot-id']),
        ),
      },
    },
    files: all,
  }
}

/** The columns that a snapshot has, and by which schema each of its files was written. */
export function schemaOf({ metadata }: MergedTable, snapshot?: Snapshot): IcebergSchema {
  const id = snapshot?.['schema-id']
  return id === undefined ? currentSchema(metadata) : schemaAt(metadata, id)
}
