/** The metadata of an Iceberg table, version 2: https://iceberg.apache.org/spec/#table-metadata */
import { Type, type Static } from 'typebox'
import type { IcebergSchema } from './fields.ts'

const snapshotSchema = Type.Object({
  'snapshot-id': Type.Number(),
  'parent-snapshot-id': Type.Optional(Type.Number()),
  'sequence-number': Type.Number(),
  'timestamp-ms': Type.Number(),
  'manifest-list': Type.String(),
  summary: Type.Record(Type.String(), Type.String()),
  'schema-id': Type.Optional(Type.Number()),
})

export type Snapshot = Static<typeof snapshotSchema>

export const metadataSchema = Type.Object({
  'format-version': Type.Literal(2),
  'table-uuid': Type.String(),
  location: Type.String(),
  'last-sequence-number': Type.Number(),
  'last-updated-ms': Type.Number(),
  'last-column-id': Type.Number(),
  'current-schema-id': Type.Number(),
  schemas: Type.Array(Type.Unsafe<IcebergSchema>(Type.Object({ 'schema-id': Type.Number() })), {
    minItems: 1,
  }),
  'default-spec-id': Type.Number(),
  'partition-specs': Type.Array(Type.Unknown()),
  'last-partition-id': Type.Number(),
  'default-sort-order-id': Type.Number(),
  'sort-orders': Type.Array(Type.Unknown()),
  properties: Type.Record(Type.String(), Type.String()),
  'current-snapshot-id': Type.Optional(Type.Number()),
  refs: Type.Optional(Type.Record(Type.String(), Type.Unknown())),
  snapshots: Type.Array(snapshotSchema),
  'snapshot-log': Type.Array(Type.Object({ 'timestamp-ms': Type.Number(), 'snapshot-id': Type.Number() })),
})

export type Metadata = Static<typeof metadataSchema>

/** Of our own among the properties of a table, and the summary of a snapshot. */
export const OWN = {
  pipeline: 'constant-tide.pipeline',
  epoch: 'constant-tide.epoch',
  commit: 'constant-tide.commit',
  position: 'constant-tide.position',
  completeUpTo: 'constant-tide.complete-up-to',
  key: 'constant-tide.key',
  /** Rows that came or changed, and keys that went; files that were written anew hold others, too. */
  put: 'constant-tide.rows-put',
  gone: 'constant-tide.keys-gone',
}

export function firstMetadata(
  uuid: string,
  location: string,
  now: number,
  schema: IcebergSchema,
  lastId: number,
): Metadata {
  return {
    'format-version': 2,
    'table-uuid': uuid,
    location,
    'last-sequence-number': 0,
    'last-updated-ms': now,
    'last-column-id': lastId,
    'current-schema-id': schema['schema-id'],
    schemas: [schema],
    'default-spec-id': 0,
    'partition-specs': [{ 'spec-id': 0, fields: [] }],
    'last-partition-id': 999,
    'default-sort-order-id': 0,
    'sort-orders': [{ 'order-id': 0, fields: [] }],
    properties: {},
    snapshots: [],
    'snapshot-log': [],
  }
}

export function currentSchema(metadata: Metadata): IcebergSchema {
  return schemaAt(metadata, metadata['current-schema-id'])
}

export function schemaAt({ schemas }: Metadata, id: number): IcebergSchema {
  const found = schemas.find(schema => schema['schema-id'] === id)
  if (!found) throw new Error(`there is no schema ${id}`)
  return found
}

export function currentSnapshot(metadata: Metadata): Snapshot | undefined {
  return snapshotAt(metadata, metadata['current-snapshot-id'])
}

export function snapshotAt({ snapshots }: Metadata, id: number | undefined): Snapshot | undefined {
  return snapshots.find(snapshot => snapshot['snapshot-id'] === id)
}
