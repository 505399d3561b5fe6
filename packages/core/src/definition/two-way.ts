/** A pipeline that keeps records of two places in step, field by field. Side A is the connection `from`, side B is `to`. */
import { Type, type Static } from 'typebox'
import { MADE_ALIKE } from '../pairing/alike.ts'
import { conditionSchema } from '../scope/condition.ts'
import { CHOSEN_PATTERN, shownText } from './id.ts'

const closed = { additionalProperties: false }
const field = Type.String({ title: 'Field', minLength: 1, maxLength: 200 })
const object = Type.String({ title: 'Place', maxLength: 200 })
const text = (title: string) => Type.String({ title, maxLength: 1000 })
const side = Type.Enum(['a', 'b'])

const meaning = Type.Object(
  { a: text('Value of A'), b: text('Value of B'), first: Type.Optional(Type.Literal(true)) },
  closed,
)

/** How a value of one side is said on the other; where nothing is said, by the fields' types. */
const ruleSchema = Type.Union(
  [
    Type.Object(
      {
        as: Type.Literal('mapped'),
        map: Type.Object(
          {
            /** Values that mean the same; several may mean one, of which the first is marked. */
            pairs: Type.Array(meaning, { title: 'Values', maxItems: 1000 }),
            others: Type.Union([
              Type.Enum(['as they are', 'held']),
              Type.Object({ a: text('Value of A'), b: text('Value of B') }, closed),
            ]),
          },
          closed,
        ),
      },
      closed,
    ),
    Type.Object(
      {
        as: Type.Literal('affixed'),
        affix: Type.Object(
          { on: side, before: text('Text before it'), behind: text('Text behind it') },
          closed,
        ),
      },
      closed,
    ),
    /** Before what somebody wrote on one side stands on the other who it was: `{field}` names a field of the side where the record started. */
    Type.Object(
      {
        as: Type.Literal('attributed'),
        a: text('Text before what comes from A'),
        b: text('Text before what comes from B'),
      },
      closed,
    ),
    Type.Object(
      {
        as: Type.Literal('set'),
        map: Type.Optional(Type.Array(meaning, { title: 'Elements', maxItems: 1000 })),
        others: Type.Enum(['made there', 'left', 'held'], { title: 'Other elements' }),
      },
      closed,
    ),
  ],
  { title: 'Rule' },
)

export const DIRECTIONS = ['both', 'a to b', 'b to a'] as const
export const CONFLICTS = ['the later', 'a', 'b', 'ask'] as const
export const ORIGINATIONS = ['a', 'b', 'both', 'neither'] as const
export const FIRSTS = ['the later', 'a', 'b', 'fill what is empty'] as const

const joinSchema = Type.Object(
  {
    a: field,
    b: field,
    direction: Type.Enum([...DIRECTIONS], { title: 'Direction' }),
    rule: Type.Optional(ruleSchema),
    /** Both sides have changed it, differently; as the lane says by default. */
    conflict: Type.Optional(Type.Enum([...CONFLICTS, 'by line'], { title: 'In a conflict' })),
    /** A change on the side that only takes; left by default. */
    against: Type.Optional(Type.Enum(['left', 'put back'])),
  },
  closed,
)

const pairingSchema = Type.Object(
  {
    fields: Type.Array(
      Type.Object(
        { a: field, b: field, alike: Type.Array(Type.Enum([...MADE_ALIKE]), { maxItems: 3 }) },
        closed,
      ),
      { title: 'Fields', minItems: 1, maxItems: 8 },
    ),
  },
  closed,
)

/** What becomes of the other half of a record that was deleted. */
const goneSchema = Type.Union([
  Type.Enum(['delete', 'leave']),
  Type.Object({ mark: field, as: text('Mark') }, closed),
])

const laneSchema = Type.Object(
  {
    /** An object of each side. */
    a: object,
    b: object,
    /** Where new records may start; of edits it says nothing. */
    originate: Type.Enum([...ORIGINATIONS], { title: 'New records start' }),
    /** A record takes part that fulfils the condition of the side where it started. */
    scope: Type.Optional(Type.Record(Type.String({ pattern: '^[ab]$' }), conditionSchema)),
    /** For the time being only these records, by their keys, and none that come to be later. */
    trial: Type.Optional(
      Type.Object(
        {
          a: Type.Array(text('Key'), { title: 'Records of A', maxItems: 1000 }),
          b: Type.Array(text('Key'), { title: 'Records of B', maxItems: 1000 }),
        },
        closed,
      ),
    ),
    fields: Type.Array(joinSchema, { title: 'Fields', maxItems: 500 }),
    conflict: Type.Enum([...CONFLICTS], { title: 'In a conflict' }),
    /** Which side wins where both were changed at the same time, or it is not known when. */
    tie: side,
    /** Of records that are there on both sides already: which value is taken first. */
    first: Type.Enum([...FIRSTS], { title: 'First values' }),
    /** By what they are found to be the same, in this order. */
    pair: Type.Optional(Type.Array(pairingSchema, { title: 'Pairing', maxItems: 10 })),
    /** By the side where a record was deleted; it is left by default. */
    gone: Type.Optional(Type.Object({ a: Type.Optional(goneSchema), b: Type.Optional(goneSchema) }, closed)),
    /** One half was edited, the other deleted; somebody is asked by default. */
    editedAndGone: Type.Optional(Type.Enum(['the deletion wins', 'the edit wins', 'ask'])),
    /** Fields that get the key of the other half. */
    links: Type.Optional(Type.Object({ a: Type.Optional(field), b: Type.Optional(field) }, closed)),
  },
  closed,
)

export const twoWaySchema = Type.Object(
  {
    version: Type.Literal(2),
    shape: Type.Literal('two-way'),
    name: shownText('Name', 120),
    /** Side A. */
    from: Type.String({ title: 'Side A', pattern: CHOSEN_PATTERN }),
    /** Side B. */
    to: Type.String({ title: 'Side B', pattern: CHOSEN_PATTERN }),
    lanes: Type.Array(laneSchema, { title: 'Lanes', maxItems: 50 }),
    /** Both sides are asked for changes every so many seconds. */
    every: Type.Optional(Type.Integer({ title: 'Seconds between two looks', minimum: 1, maximum: 86_400 })),
    /** And every so many minutes whether records are gone. */
    sweep: Type.Optional(Type.Integer({ title: 'Minutes between two sweeps', minimum: 1, maximum: 10_080 })),
    /** More deletions at once than this are asked about first: a share of the pairs in percent, or a number. */
    guard: Type.Optional(
      Type.Object(
        {
          percent: Type.Integer({ title: 'Share of pairs', minimum: 1, maximum: 100 }),
          records: Type.Integer({ title: 'Records', minimum: 0, maximum: 10_000_000 }),
        },
        closed,
      ),
    ),
  },
  closed,
)

export type TwoWayDefinition = Static<typeof twoWaySchema>
export type TwoWayLane = Static<typeof laneSchema>
export type TwoWayJoin = Static<typeof joinSchema>
export type TwoWayRule = Static<typeof ruleSchema>
export type GonePolicy = Static<typeof goneSchema>

export const EVERY_SECONDS = 10
export const SWEEP_MINUTES = 15
/** Below that many nobody is asked, whatever share they are. */
export const GONE_GUARD = { percent: 20, records: 20 }

/** Of the lanes of a pipeline no two join the same places. */
export function laneName({ a, b }: Pick<TwoWayLane, 'a' | 'b'>): string {
  return `${a} ↔ ${b}`
}
