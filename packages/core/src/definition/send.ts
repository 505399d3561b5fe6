/** A pipeline that sends: what a query has goes into the records of an app's object, by differences. */
import { Type, type Static } from 'typebox'
import { PARAMETER_NAME } from './query-parameters.ts'
import { CHOSEN_PATTERN, ID_PATTERN, shownText } from './id.ts'

const closed = { additionalProperties: false }
const column = Type.String({ title: 'Column', minLength: 1, maxLength: 300 })
const field = Type.String({ title: 'Field', minLength: 1, maxLength: 200 })

const whatSchema = Type.Union(
  [
    Type.Object(
      {
        table: Type.Object(
          { namespace: Type.String({ maxLength: 300 }), name: Type.String({ maxLength: 300 }) },
          closed,
        ),
      },
      closed,
    ),
    Type.Object(
      {
        query: Type.String({ title: 'Saved query', pattern: ID_PATTERN }),
        /** Of its parameters; the others have their presets. */
        values: Type.Optional(
          Type.Record(Type.String({ pattern: PARAMETER_NAME }), Type.String({ maxLength: 10_000 })),
        ),
      },
      closed,
    ),
    Type.Object({ sql: Type.String({ title: 'SQL', maxLength: 100_000 }) }, closed),
  ],
  { title: 'What is sent' },
)

/** What a field's values are made of. */
const fromSchema = Type.Union([
  Type.Object({ column }, closed),
  Type.Object({ constant: Type.String({ title: 'Constant', maxLength: 10_000 }) }, closed),
  /** Text in which a column's name in braces stands for its value. */
  Type.Object({ template: Type.String({ title: 'Template', maxLength: 10_000 }) }, closed),
  Type.Object({ expression: Type.String({ title: 'Expression', maxLength: 10_000 }) }, closed),
])

const pairSchema = Type.Object(
  {
    field,
    from: fromSchema,
    /** What a null does: nothing, or the field is emptied. Nothing by default. */
    empty: Type.Optional(Type.Enum(['leave', 'clear'])),
    /** Only what is made gets it; people may change it then. */
    once: Type.Optional(Type.Literal(true)),
    /** Of a reference: the field of the other object by which its record is found; by its key where nothing is said. */
    by: Type.Optional(field),
  },
  closed,
)

const meetsSchema = Type.Object(
  { column, field, alike: Type.Enum(['exactly', 'but for case and spaces'], { title: 'How alike' }) },
  closed,
)

export const MAYS = ['create', 'change', 'create and change', 'make identical'] as const

export const sendSchema = Type.Object(
  {
    version: Type.Literal(2),
    shape: Type.Literal('send'),
    name: shownText('Name', 120),
    from: Type.String({ title: 'Source', pattern: CHOSEN_PATTERN }),
    to: Type.String({ title: 'Target', pattern: CHOSEN_PATTERN }),
    what: Type.Optional(whatSchema),
    /** Columns that together tell a row from all others. */
    key: Type.Array(column, { title: 'Row key', maxItems: 16 }),
    object: Type.String({ title: 'Object', maxLength: 200 }),
    /** By which a row and a record are known to be the same, the first that finds one. */
    meets: Type.Array(meetsSchema, { title: 'Match keys', maxItems: 8 }),
    /** What becomes of a row that meets several records; held by default. */
    several: Type.Optional(Type.Enum(['hold', 'first'])),
    may: Type.Enum([...MAYS], { title: 'What may happen' }),
    fields: Type.Array(pairSchema, { title: 'Fields', maxItems: 500 }),
    /** A run that would create, change or remove more than this asks first: a share of what was sent in percent, or a number. */
    guard: Type.Optional(
      Type.Object(
        {
          percent: Type.Integer({ title: 'Share of records', minimum: 1, maximum: 100 }),
          records: Type.Integer({ title: 'Records', minimum: 0, maximum: 100_000_000 }),
        },
        closed,
      ),
    ),
    /** A table at the source that says what was sent. */
    log: Type.Optional(
      Type.Object(
        {
          namespace: Type.String({ title: 'Schema of the log', minLength: 1, maxLength: 300 }),
          name: Type.String({ title: 'Table of the log', minLength: 1, maxLength: 300 }),
        },
        closed,
      ),
    ),
    /** When so many are refused, the run ends. */
    refused: Type.Optional(Type.Integer({ title: 'Refused at most', minimum: 0, maximum: 1_000_000 })),
  },
  closed,
)

export type SendDefinition = Static<typeof sendSchema>
export type FieldPair = Static<typeof pairSchema>
export type MatchKey = Static<typeof meetsSchema>

/** Below that many nobody is asked, whatever share they are. */
export const GUARD = { percent: 30, records: 100 }
export const REFUSED_AT_MOST = 1000

export function mayCreate({ may }: Pick<SendDefinition, 'may'>): boolean {
  return may !== 'change'
}

export function mayChange({ may }: Pick<SendDefinition, 'may'>): boolean {
  return may !== 'create'
}

export function mayRemove({ may }: Pick<SendDefinition, 'may'>): boolean {
  return may === 'make identical'
}
