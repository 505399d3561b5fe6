import { Type, type Static } from 'typebox'
import { shownText } from '../definition/id.ts'
import { EXPRESSION_CHARACTERS } from '../expression/syntax.ts'
import { maskSchema, printMask } from './mask.ts'

const name = shownText('The name of the column', 300, 1)
const expression = Type.String({ title: 'The expression', minLength: 1, maxLength: EXPRESSION_CHARACTERS })

/** What a column can say of the change that its row came with. */
export const METADATA = ['operation', 'committed at', 'landed at', 'position'] as const

export const columnRuleSchema = Type.Object(
  {
    /** Which: a pattern over schema.table.column; over schema.table where a column is added. */
    like: shownText('The pattern', 1000, 1),
    does: Type.Union([
      Type.Object({ leave: Type.Literal('out') }, { additionalProperties: false }),
      ...maskSchema.anyOf,
      Type.Object(
        { add: name, constant: Type.Union([Type.String({ maxLength: 2000 }), Type.Null()]) },
        { additionalProperties: false },
      ),
      /** In CEL, over the columns of the row as they are at the source. */
      Type.Object({ add: name, compute: expression }, { additionalProperties: false }),
      Type.Object({ compute: expression }, { additionalProperties: false }),
      /** The same values, in the words of `TYPE_NAMES` or `decimal(8,2)`; what is not the same there has none. */
      Type.Object({ become: shownText('The type', 60, 1) }, { additionalProperties: false }),
      /** Of texts and binary data no more than so many bytes; another column says of what there was more. */
      Type.Object(
        {
          limit: Type.Integer({ title: 'The limit in bytes', minimum: 1, maximum: 1_000_000_000 }),
          /** Behind the name of the column that is cut; `_cut` where nothing is said. */
          suffix: Type.Optional(shownText('The suffix', 60, 1)),
        },
        { additionalProperties: false },
      ),
      Type.Object({ add: name, metadata: Type.Enum([...METADATA]) }, { additionalProperties: false }),
    ]),
  },
  { additionalProperties: false },
)

/** What becomes of columns on their way; of several that match one column the last decides. */
export type ColumnRule = Static<typeof columnRuleSchema>

export type ColumnDeed = ColumnRule['does']

export const CUT_SUFFIX = '_cut'

/** What a rule does, in words. */
export function printColumnDeed(deed: ColumnDeed): string {
  if ('leave' in deed) return 'left out'
  if ('mask' in deed) return printMask(deed)
  if ('compute' in deed)
    return 'add' in deed ? `a column ${deed.add}, computed: ${deed.compute}` : `computed: ${deed.compute}`
  if ('become' in deed) return `as ${deed.become}`
  if ('limit' in deed)
    return `no more than ${deed.limit.toLocaleString('en')} bytes of it, and a column …${deed.suffix ?? CUT_SUFFIX} that says of what there was more`
  if ('metadata' in deed) return `a column ${deed.add} with the ${deed.metadata} of its last change`
  return `a column ${deed.add}, always ${deed.constant === null ? 'null' : `“${deed.constant}”`}`
}
