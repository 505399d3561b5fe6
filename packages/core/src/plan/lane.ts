import { Type, type Static } from 'typebox'
import { landedFilesSchema } from '../definition/files.ts'
import { columnSchema } from '../records/column.ts'
import { datasetNameSchema } from '../records/dataset.ts'
import { conditionSchema } from '../scope/condition.ts'
import { METADATA } from '../shape/column-rule.ts'
import { maskSchema } from '../shape/mask.ts'

const writtenValueSchema = Type.Union([
  Type.Object({ from: Type.Literal('column'), column: Type.String() }),
  Type.Object({ from: Type.Literal('constant'), value: Type.Union([Type.String(), Type.Null()]) }),
  /** The tag of the origin that the row is of. */
  Type.Object({ from: Type.Literal('origin') }),
  /** What the row's readers at the target must not see of a column. */
  Type.Object({ from: Type.Literal('masked'), column: Type.String(), how: maskSchema }),
  /** The same value in the column's own type. */
  Type.Object({ from: Type.Literal('retyped'), column: Type.String() }),
  /** No more of it than so many bytes. */
  Type.Object({ from: Type.Literal('cut'), column: Type.String(), bytes: Type.Integer() }),
  /** Whether there was more of it. */
  Type.Object({ from: Type.Literal('was cut'), column: Type.String(), bytes: Type.Integer() }),
  /** An expression in CEL over the columns that are read. */
  Type.Object({ from: Type.Literal('computed'), expression: Type.String() }),
  Type.Object({
    from: Type.Literal('metadata'),
    /** `deleted at`: null but for rows that are kept after the source has deleted them. */
    what: Type.Enum([...METADATA, 'deleted at']),
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

const historyColumnSchema = Type.Object({
  ...columnSchema.properties,
  value: Type.Union([
    Type.Object({
      from: Type.Enum([
        'position',
        'number',
        'operation',
        'committed at',
        'landed at',
        'transaction',
        'origin',
        'not told',
      ]),
    }),
    /** A column that the lane writes, as its row was before the change or after it. */
    Type.Object({ from: Type.Enum(['before', 'after']), column: Type.String() }),
  ]),
})

/** A column of a history table, and what is written there of a change. */
export type HistoryColumn = Static<typeof historyColumnSchema>

const historySchema = Type.Object({ table: datasetNameSchema, columns: Type.Array(historyColumnSchema) })

/** The table beside a lane's own that keeps every change of its rows. */
export type History = Static<typeof historySchema>

export const laneSchema = Type.Object({
  /** The tag of the origin that it is of; absent where the pipeline has one source. */
  origin: Type.Optional(Type.String()),
  source: datasetNameSchema,
  target: datasetNameSchema,
  /** What is read at the source, in this order. */
  reads: Type.Array(columnSchema),
  /** Columns that are there and are not read. */
  leftOut: Type.Optional(Type.Array(Type.String())),
  /** The source's key: names of columns that are read, in key order. */
  identity: Type.Array(Type.String()),
  /** One of the columns that are read: where it is not null, it says why the row could not be read. */
  problem: Type.Optional(Type.String()),
  /** What is written at the target, in this order. */
  writes: Type.Array(writtenColumnSchema),
  /** The target's key: names of columns that are written. */
  key: Type.Array(Type.String()),
  /** Which rows take part; null: all. */
  scope: Type.Union([conditionSchema, Type.Null()]),
  /** What becomes of rows that the source deletes; absent: they go. `mark`: by the column `deleted at`. */
  deletes: Type.Optional(Type.Enum(['keep', 'mark'])),
  /** What becomes of rows that are in its table already; absent: there are none, or they go before it begins. */
  there: Type.Optional(Type.Enum(['add', 'are the copy'])),
  /** Where every change is kept; absent: nowhere. */
  history: Type.Optional(historySchema),
  /** The files that its rows land in; where those are `changes`, its history is all of them. Absent: none. */
  files: Type.Optional(landedFilesSchema),
  rows: Type.Number(),
  rowsExact: Type.Boolean(),
  bytes: Type.Number(),
})

/** One source table to one target table, or to its part of one that origins share. */
export type Lane = Static<typeof laneSchema>

/** Equal for lanes of the same table of the same origin. */
export function laneId({ origin = '', source }: Pick<Lane, 'origin' | 'source'>): string {
  return JSON.stringify([origin, source.namespace, source.name])
}

/** The source column that a target column is made of; undefined: of none. */
export function madeOf({ value }: Pick<WrittenColumn, 'value'>): string | undefined {
  return 'column' in value && value.from !== 'was cut' ? value.column : undefined
}

/** The source column that must be known for it, where it is one. */
export function neededFor({ value }: Pick<WrittenColumn, 'value'>): string | undefined {
  return 'column' in value ? value.column : undefined
}

/** The source column that a target column is taken from as it is; undefined: from none. */
export function takenFrom({ value }: WrittenColumn): string | undefined {
  return value.from === 'column' ? value.column : undefined
}
