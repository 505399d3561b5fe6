/** Manifests and manifest lists of Iceberg, version 2, in Avro: https://iceberg.apache.org/spec/#manifests */
import avro from 'avsc'
import { once } from 'node:events'

const field = (name: string, id: number, type: unknown, more: object = {}) => ({
  name,
  type,
  'field-id': id,
  ...more,
})
const optional = (type: unknown) => ['null', type]

const ENTRY = {
  type: 'record',
  name: 'manifest_entry',
  fields: [
    field('status', 0, 'int'),
    field('snapshot_id', 1, optional('long'), { default: null }),
    field('sequence_number', 3, optional('long'), { default: null }),
    field('file_sequence_number', 4, optional('long'), { default: null }),
    field('data_file', 2, {
      type: 'record',
      name: 'r2',
      fields: [
        field('content', 134, 'int'),
        field('file_path', 100, 'string'),
        field('file_format', 101, 'string'),
        field('partition', 102, { type: 'record', name: 'r102', fields: [] }),
        field('record_count', 103, 'long'),
        field('file_size_in_bytes', 104, 'long'),
      ],
    }),
  ],
}

const LISTED = {
  type: 'record',
  name: 'manifest_file',
  fields: [
    field('manifest_path', 500, 'string'),
    field('manifest_length', 501, 'long'),
    field('partition_spec_id', 502, 'int'),
    field('content', 517, 'int'),
    field('sequence_number', 515, 'long'),
    field('min_sequence_number', 516, 'long'),
    field('added_snapshot_id', 503, 'long'),
    field('added_files_count', 504, 'int'),
    field('existing_files_count', 505, 'int'),
    field('deleted_files_count', 506, 'int'),
    field('added_rows_count', 512, 'long'),
    field('existing_rows_count', 513, 'long'),
    field('deleted_rows_count', 514, 'long'),
  ],
}

/** What became of a file with a snapshot. */
export const STATUS = { existing: 0, added: 1, deleted: 2 } as const

export interface ManifestEntry {
  status: number
  snapshot_id: number | null
  sequence_number: number | null
  file_sequence_number: number | null
  data_file: {
    content: number
    file_path: string
    file_format: string
    partition: object
    record_count: number
    file_size_in_bytes: number
  }
}

export interface ListedManifest {
  manifest_path: string
  manifest_length: number
  partition_spec_id: number
  content: number
  sequence_number: number
  min_sequence_number: number
  added_snapshot_id: number
  added_files_count: number
  existing_files_count: number
  deleted_files_count: number
  added_rows_count: number
  existing_rows_count: number
  deleted_rows_count: number
}

/** `schema`: the table's, as its metadata has it. */
export function manifestBytes(entries: readonly ManifestEntry[], schema: object): Promise<Buffer> {
  return written(ENTRY, entries, {
    schema: JSON.stringify(schema),
    'partition-spec': '[]',
    'partition-spec-id': '0',
    'format-version': '2',
    content: 'data',
  })
}

export function manifestListBytes(
  manifests: readonly ListedManifest[],
  snapshot: { id: number; parent: number | null; sequence: number },
): Promise<Buffer> {
  return written(LISTED, manifests, {
    'snapshot-id': String(snapshot.id),
    'parent-snapshot-id': String(snapshot.parent),
    'sequence-number': String(snapshot.sequence),
    'format-version': '2',
  })
}

export const entriesIn = (bytes: Uint8Array) => read<ManifestEntry>(bytes)
export const manifestsIn = (bytes: Uint8Array) => read<ListedManifest>(bytes)

async function written(
  schema: object,
  values: readonly object[],
  metadata: Record<string, string>,
): Promise<Buffer> {
  // Of the plain schema, so that the ids of its fields reach the header.
  const encoder = new avro.streams.BlockEncoder(
    schema as avro.Schema,
    {
      writeHeader: true,
      metadata: Object.fromEntries(Object.entries(metadata).map(([name, text]) => [name, Buffer.from(text)])),
    } as object,
  )
  const parts: Buffer[] = []
  encoder.on('data', (part: Buffer) => parts.push(part))
  for (const value of values) encoder.write(value)
  encoder.end()
  await once(encoder, 'end')
  return Buffer.concat(parts)
}

async function read<T>(bytes: Uint8Array): Promise<T[]> {
  const decoder = new avro.streams.BlockDecoder()
  const found: T[] = []
  decoder.on('data', (value: T) => found.push(value))
  decoder.end(Buffer.from(bytes))
  await once(decoder, 'end')
  return found
}
