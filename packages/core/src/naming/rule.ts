import { Type, type Static } from 'typebox'
import { shownText } from '../definition/id.ts'

const deedSchema = Type.Union([
  Type.Object(
    { make: Type.Enum(['upper case', 'lower case', 'plain letters']) },
    { additionalProperties: false },
  ),
  /** Every occurrence of a text becomes another. */
  Type.Object(
    { replace: shownText('The text to replace', 200, 1), by: shownText('What it becomes', 200) },
    { additionalProperties: false },
  ),
  /** Everything that a regular expression (RE2) finds; `$1` stands for what its first group found. */
  Type.Object(
    { find: shownText('The regular expression', 200, 1), by: shownText('What it becomes', 200) },
    { additionalProperties: false },
  ),
  Type.Object({ prefix: shownText('What comes before it', 200, 1) }, { additionalProperties: false }),
  Type.Object({ suffix: shownText('What comes after it', 200, 1) }, { additionalProperties: false }),
  /** Cut to as many characters, the target's limit where none is said, with a suffix from the full name's digest. */
  Type.Object(
    { shorten: Type.Union([Type.Integer({ minimum: 12, maximum: 1024 }), Type.Literal('to fit')]) },
    { additionalProperties: false },
  ),
  /** The table goes into this schema. */
  Type.Object({ schema: shownText('The schema', 200, 1) }, { additionalProperties: false }),
  Type.Object({ call: shownText('The name', 300, 1) }, { additionalProperties: false }),
])

/** What a naming rule does to a name. */
export type NamingDeed = Static<typeof deedSchema>

export const namingRuleSchema = Type.Object(
  {
    names: Type.Enum(['all', 'schemas', 'tables', 'columns']),
    /** Which of them, by their names at the source: a pattern over schema, schema.table or schema.table.column. */
    like: Type.Optional(shownText('The pattern', 1000, 1)),
    does: deedSchema,
  },
  { additionalProperties: false },
)

/** One of an ordered list that turns source names into target names. */
export type NamingRule = Static<typeof namingRuleSchema>

/** What a rule does, in words: “letters with marks become plain”. */
export function printDeed(deed: NamingDeed): string {
  if ('make' in deed)
    return {
      'upper case': 'in upper case',
      'lower case': 'in lower case',
      'plain letters': 'in plain letters',
    }[deed.make]
  if ('replace' in deed) return `“${deed.replace}” becomes “${deed.by}”`
  if ('find' in deed) return `what ${deed.find} finds becomes “${deed.by}”`
  if ('prefix' in deed) return `“${deed.prefix}” before it`
  if ('suffix' in deed) return `“${deed.suffix}” after it`
  if ('shorten' in deed)
    return deed.shorten === 'to fit'
      ? 'shortened to what the target takes'
      : `shortened to ${deed.shorten} characters`
  if ('schema' in deed) return `into the schema ${deed.schema}`
  return `called ${deed.call}`
}

/** Which names a rule is about, in words: “tables like sales.*”. */
export function printWhich({ names, like }: NamingRule): string {
  const which = names === 'all' ? 'all names' : names
  return like === undefined ? which : `${which} like ${like}`
}
