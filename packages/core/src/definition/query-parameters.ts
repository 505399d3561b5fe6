/** Values that a saved query leaves open: `{name}` in the SQL, outside of texts, names in quotes and comments. */
import { Type, type Static } from 'typebox'
import { Failure } from '../failure.ts'

export const PARAMETER_TYPES = ['text', 'number', 'date', 'yes or no'] as const

export const PARAMETER_NAME = '^[A-Za-z_][A-Za-z0-9_]{0,62}$'

export const parameterSchema = Type.Object(
  {
    name: Type.String({ title: 'Parameter', pattern: PARAMETER_NAME }),
    type: Type.Enum([...PARAMETER_TYPES], { title: 'Type' }),
    /** Where whoever asks gives none. */
    preset: Type.String({ title: 'Preset', maxLength: 10_000 }),
  },
  { additionalProperties: false },
)

export type QueryParameter = Static<typeof parameterSchema>

/** How a system's SQL writes texts: with a backslash that escapes, or without. */
export type Quoting = 'plain' | 'backslashes'

const COMMENT = String.raw`--[^\n]*|\/\*[\s\S]*?\*\/`
const OPEN = String.raw`\{([A-Za-z_][A-Za-z0-9_]*)\}`

/** What is skipped, or a parameter. */
const TOKENS: Record<Quoting, RegExp> = {
  plain: new RegExp(
    String.raw`[eE]'(?:[^'\\]|\\[\s\S]|'')*'|'(?:[^']|'')*'|"(?:[^"]|"")*"|${COMMENT}|\$([A-Za-z_]\w*)?\$[\s\S]*?\$\1\$|${OPEN}`,
    'g',
  ),
  backslashes: new RegExp(
    String.raw`'(?:[^'\\]|\\[\s\S]|'')*'|"(?:[^"\\]|\\[\s\S]|"")*"|` +
      '`(?:[^`]|``)*`' +
      String.raw`|--(?=\s|$)[^\n]*|#[^\n]*|\/\*[\s\S]*?\*\/|()${OPEN}`,
    'g',
  ),
}

/** The names that stand open in the SQL, each once. */
export function parametersIn(sql: string, quoting: Quoting): string[] {
  const names = [...sql.matchAll(TOKENS[quoting])].flatMap(([, , name]) => name ?? [])
  return [...new Set(names)]
}

/** The SQL with its parameters' values in place. Throws a Failure for one that is not declared, and for a value that is none of its type. */
export function withParameters(
  sql: string,
  parameters: readonly QueryParameter[],
  values: Readonly<Record<string, string>>,
  quoting: Quoting,
): string {
  return sql.replaceAll(TOKENS[quoting], (whole, _, name: string | undefined) => {
    if (name === undefined) return whole
    const parameter = parameters.find(one => one.name === name)
    if (!parameter)
      throw new Failure(
        'refused',
        `The query leaves {${name}} open, and does not say what it is.`,
        'Give it a type and a preset where the query is saved, or take the braces out.',
      )
    return literalOf(parameter, Object.hasOwn(values, name) ? values[name]! : parameter.preset, quoting)
  })
}

const NUMBER = /^[+-]?\d+(\.\d+)?([eE][+-]?\d+)?$/

/** Throws a Failure for a value that is none of the parameter's type. */
function literalOf({ name, type }: QueryParameter, value: string, quoting: Quoting): string {
  const refuse = (what: string) =>
    new Failure(
      'refused',
      `The parameter “${name}” is to be ${what}, and is “${value}”.`,
      'Correct the value.',
    )
  switch (type) {
    case 'text': {
      if (value.includes('\0')) throw refuse('text without a null character')
      const quoted = value.replaceAll("'", "''")
      return `'${quoting === 'backslashes' ? quoted.replaceAll('\\', '\\\\') : quoted}'`
    }
    case 'number':
      if (!NUMBER.test(value.trim())) throw refuse('a number')
      // A minus before it makes no comment of its own.
      return `(${value.trim()})`
    case 'date':
      if (!isDate(value.trim())) throw refuse('a date such as 2026-11-30')
      return `DATE '${value.trim()}'`
    case 'yes or no':
      if (value !== 'yes' && value !== 'no') throw refuse('yes or no')
      return value === 'yes' ? 'TRUE' : 'FALSE'
  }
}

function isDate(text: string): boolean {
  const time = /^\d{4}-\d{2}-\d{2}$/.test(text) ? Date.parse(`${text}T00:00:00Z`) : Number.NaN
  return !Number.isNaN(time) && new Date(time).toISOString().startsWith(text)
}
