import { Type, type Static } from 'typebox'
import { columnSchema } from '../records/column.ts'
import { datasetNameSchema } from '../records/dataset.ts'

const writtenValueSchema = Type.Union([
  Type.Object({ from: Type.Literal('column'), column: Type.String() }),
  Type.Object({ from: Type.Literal('constant'), value: Type.Union([Type.String(), Type.Null()]) }),
  /** The tag of the origin that the row is of. */
  Type.Object({ from: Type.Literal('origin') }),
  Type.Object({
    from: Type.Literal('metadata'),
    what: Type.Union([Type.Literal('operation'), Type.Literal('committed at'), Type.Literal('position')]),
  }),
])

/** Where the value of a target column comes from. */
export type WrittenValue = Static<typeof writtenValueSchema>

const writtenColumnSchema = Type.Object({
  ...columnSchema.properties,
  value: writtenValueSchema,
  /** What is different about it there. */
  note: Type.Optional(Type.String()),
})

/** A column at the target, and what is written there. */
export type WrittenColumn = Static<typeof writtenColumnSchema>

export const laneSchema = Type.Object({
  source: datasetNameSchema,
  target: datasetNameSchema,
  /** What is read at the source, in this order. */
  reads: Type.Array(columnSchema),
  /** The source's key: names of columns that are read, in key order. */
  identity: Type.Array(Type.String()),
  /** What is written at the target, in this order. */
  writes: Type.Array(writtenColumnSchema),
  /** The target's key: names of columns that are written. */
  key: Type.Array(Type.String()),
  /** Which rows take part; null: all. */
  scope: Type.Null(),
  rows: Type.Number(),
  rowsExact: Type.Boolean(),
  bytes: Type.Number(),
})

/** One source table to one target table. */
export type Lane = Static<typeof laneSchema>

/** The source column that a target column is taken from; undefined: from none. */
export function takenFrom({ value }: WrittenColumn): string | undefined {
  return value.from === 'column' ? value.column : undefined
}
