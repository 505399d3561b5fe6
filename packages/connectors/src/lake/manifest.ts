/** What is published of a table's files. Whoever reads them relies on this; it is described in docs/change-files.md. */
import { logicalTypeSchema } from '@tide/core/records/types'
import { Type, type Static } from 'typebox'
import { Value } from 'typebox/value'

const nullable = <T extends Type.TSchema>(schema: T) => Type.Union([schema, Type.Null()])

const fileSchema = Type.Object({
  /** From the table's folder on. */
  path: Type.String(),
  rows: Type.Integer(),
  bytes: Type.Integer(),
  /** SHA-256 of the file as it lies there, in hexadecimal digits. */
  sha256: Type.String(),
})

export const manifestSchema = Type.Object({
  version: Type.Literal(1),
  sequence: Type.Integer(),
  /** Which commit of which pipeline it is of; equal for manifests of one transaction at the target. */
  commit: Type.String(),
  pipeline: Type.String(),
  epoch: Type.Integer(),
  /** `copy`: rows as they stood; `changes`: what happened to them; `none`: it says no more than that nothing is missing. */
  kind: Type.Enum(['copy', 'changes', 'none']),
  /** What came before is of no more use: whoever made a table of it empties that first. */
  reset: Type.Boolean(),
  schema: Type.Integer(),
  format: Type.Enum(['json lines', 'csv', 'parquet']),
  compress: Type.Enum(['none', 'gzip', 'zstd', 'snappy']),
  /** Where the pipeline stands in the source's log with it, as the source prints that. */
  position: Type.String(),
  /** Everything committed at the source up to here is in this manifest and those before it; ISO 8601. */
  completeUpTo: Type.String(),
  /** When the oldest and the newest of its changes were committed. */
  firstCommit: nullable(Type.String()),
  lastCommit: nullable(Type.String()),
  landedAt: Type.String(),
  rows: Type.Integer(),
  files: Type.Array(fileSchema),
  /** Of all since the last reset. */
  total: Type.Object({ rows: Type.Integer(), bytes: Type.Integer(), files: Type.Integer() }),
})

export type Manifest = Static<typeof manifestSchema>
export type DataFile = Static<typeof fileSchema>

export const tableSchemaSchema = Type.Object({
  version: Type.Literal(1),
  id: Type.Integer(),
  table: Type.Object({ namespace: Type.String(), name: Type.String() }),
  as: Type.Enum(['changes', 'merged']),
  key: Type.Array(Type.String()),
  columns: Type.Array(
    Type.Object({
      name: Type.String(),
      /** The logical type. */
      type: logicalTypeSchema,
      /** What DuckDB calls a type that holds it. */
      nativeType: Type.String(),
    }),
  ),
})

export type TableSchema = Static<typeof tableSchemaSchema>

/** What a file of ours says; undefined for anything else. */
export function jsonOf<T extends Type.TSchema>(
  schema: T,
  bytes: Uint8Array | undefined,
): Static<T> | undefined {
  if (!bytes) return undefined
  try {
    const value: unknown = JSON.parse(Buffer.from(bytes).toString())
    return Value.Check(schema, value) ? (value as Static<T>) : undefined
  } catch {
    return undefined
  }
}

export const jsonBytes = (value: object) => Buffer.from(`${JSON.stringify(value, null, 1)}\n`)
