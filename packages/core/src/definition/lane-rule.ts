import { Type, type Static } from 'typebox'
import { shownText } from './id.ts'

/** What becomes at the target of rows that the source deletes. */
export const deletesSchema = Type.Union([
  Type.Enum(['remove', 'keep']),
  Type.Object({ mark: shownText('The column of the mark', 300, 1) }, { additionalProperties: false }),
])

/**
 * What becomes of rows that are in a table before its lane writes there. `empty`: they go; `add`: they stay, but for those
 * whose keys come from the source; `are the copy`: nothing is copied, and what is there is taken for it, unproved.
 */
const rows = Type.Enum(['empty', 'add', 'are the copy'])

/** What may be done to a table that is there and is not as the lane needs it; by default nothing. */
const structure = Type.Enum(['as it is', 'add what is missing', 'make anew'])

/** What becomes of tables that are at the target already. Without an answer there is no start. */
export const thereSchema = Type.Object(
  { rows: Type.Optional(rows), structure: Type.Optional(structure) },
  { additionalProperties: false },
)

export type There = Static<typeof thereSchema>

export type Deletes = Static<typeof deletesSchema>

export const laneRuleSchema = Type.Object(
  {
    /** Which tables, by a pattern over schema.table at the source. */
    like: shownText('The pattern', 1000, 1),
    does: Type.Union([
      Type.Object({ rows }, { additionalProperties: false }),
      Type.Object({ structure }, { additionalProperties: false }),
      Type.Object({ deletes: deletesSchema }, { additionalProperties: false }),
      /** Whether every change is kept in a table beside it. */
      Type.Object({ history: Type.Boolean() }, { additionalProperties: false }),
      /** What tells rows apart at the target: columns of the source, which must keep them apart, too. */
      Type.Object(
        {
          key: Type.Array(shownText('A column of the key', 300, 1), {
            title: 'The target key',
            minItems: 1,
            maxItems: 16,
          }),
        },
        { additionalProperties: false },
      ),
    ]),
  },
  { additionalProperties: false },
)

/** What is otherwise for some lanes; of several rules that say the same thing of one, the last decides. */
export type LaneRule = Static<typeof laneRuleSchema>
