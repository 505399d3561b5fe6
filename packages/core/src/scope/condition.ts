import { Type, type Static } from 'typebox'
import { EXPRESSION_CHARACTERS } from '../expression/syntax.ts'

const column = Type.String({ title: 'The column', minLength: 1, maxLength: 300 })
const value = Type.String({ title: 'The value', maxLength: 2000 })

/** Which rows take part: a tree over the columns of the source. */
export const conditionSchema = Type.Cyclic(
  {
    Condition: Type.Union([
      Type.Object(
        { all: Type.Array(Type.Ref('Condition'), { maxItems: 100 }) },
        { additionalProperties: false },
      ),
      Type.Object(
        { any: Type.Array(Type.Ref('Condition'), { maxItems: 100 }) },
        { additionalProperties: false },
      ),
      Type.Object({ not: Type.Ref('Condition') }, { additionalProperties: false }),
      /** In CEL; rows take part for which it is true. */
      Type.Object(
        {
          expression: Type.String({
            title: 'The expression',
            minLength: 1,
            maxLength: EXPRESSION_CHARACTERS,
          }),
        },
        { additionalProperties: false },
      ),
      Type.Object({ column, isNull: Type.Boolean() }, { additionalProperties: false }),
      Type.Object(
        {
          column,
          op: Type.Enum([
            'equals',
            'differs from',
            'is less than',
            'is at most',
            'is more than',
            'is at least',
            'starts with',
            'contains',
          ]),
          value,
        },
        { additionalProperties: false },
      ),
      Type.Object({ column, in: Type.Array(value, { maxItems: 1000 }) }, { additionalProperties: false }),
    ]),
  },
  'Condition',
)

export type Condition = Static<typeof conditionSchema>

/** A condition in words: “stage equals sold and quantity is more than 3”. */
export function printCondition(condition: Condition): string {
  if ('all' in condition) return joined(condition.all, ' and ', 'every row')
  if ('any' in condition) return joined(condition.any, ' or ', 'no row')
  if ('not' in condition) return `not (${printCondition(condition.not)})`
  if ('expression' in condition) return condition.expression
  if ('isNull' in condition) return `${condition.column} is ${condition.isNull ? '' : 'not '}null`
  if ('in' in condition) return `${condition.column} is one of ${condition.in.join(', ')}`
  return `${condition.column} ${condition.op} ${condition.value === '' ? '“”' : condition.value}`
}

function joined(parts: readonly Condition[], by: string, none: string): string {
  if (parts.length === 0) return none
  const text = (one: Condition) =>
    parts.length > 1 && ('all' in one || 'any' in one) ? `(${printCondition(one)})` : printCondition(one)
  return parts.map(text).join(by)
}
