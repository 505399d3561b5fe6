/** Whether a statement can do nothing but ask. MariaDB has no parser to lend, so its words are looked at one by one. */
import { misunderstood, notAQuestion, severalStatements } from '../../question/refusal.ts'
import { BEFORE_BRACKETS, FUNCTIONS } from './functions.ts'

interface Token {
  kind: 'word' | 'name' | 'text' | 'variable' | 'sign'
  text: string
}

/** Under the session's sql_mode: double quotes hold texts, and a backslash escapes. */
const TOKEN =
  /\s+|(?:--(?=\s|$)|#)[^\n]*|\/\*(?!M?!)[\s\S]*?\*\/|`(?:[^`]|``)*`|"(?:[^"\\]|""|\\[\s\S])*"|'(?:[^'\\]|''|\\[\s\S])*'|@@?[\w$.\u0080-\uffff]*|[\w$\u0080-\uffff]+|:=|[-+*/%=<>!&|^~(),.;]/y

const STARTS = new Set(['SELECT', 'WITH', 'VALUES', 'SHOW', 'EXPLAIN', 'DESCRIBE', 'DESC'])
const EXPLAINED = new Set(['SELECT', 'WITH', 'VALUES', '('])

/** Reserved words, which no column can have for its name; before a bracket two of them are functions. */
const CHANGES = new Set(['DELETE', 'UPDATE', 'INSERT', 'REPLACE'])

/** Throws, naming it, when a part of the statement is not known to be harmless. */
export function refuseUnlessQuestion(sql: string): void {
  const tokens = tokensOf(sql)
  while (tokens.at(-1)?.text === ';') tokens.pop()
  const ends = tokens.filter(({ text }) => text === ';').length
  if (tokens.length === 0 || ends > 0) throw severalStatements(tokens.length === 0 ? 0 : ends + 1)
  refuseStart(tokens)
  tokens.forEach((token, i) => refuseAt(tokens, token, i))
}

function tokensOf(sql: string): Token[] {
  const tokens: Token[] = []
  TOKEN.lastIndex = 0
  while (TOKEN.lastIndex < sql.length) {
    const at = TOKEN.lastIndex
    const ahead = sql.slice(at, at + 20)
    if (/^\/\*M?!/.test(ahead)) throw notAQuestion('A comment that the server carries out (/*! … */)')
    const text = TOKEN.exec(sql)?.[0]
    if (text === undefined) throw misunderstood(`It cannot be read from here on: ${ahead}`)
    if (/^(\s|--|#|\/\*)/.test(text)) continue
    tokens.push({ kind: kindOf(text), text })
  }
  return tokens
}

function kindOf(text: string): Token['kind'] {
  if (text.startsWith('`')) return 'name'
  if (text.startsWith('"') || text.startsWith("'")) return 'text'
  if (text.startsWith('@')) return 'variable'
  return /^[\w$\u0080-\uffff]/.test(text) ? 'word' : 'sign'
}

function wordAt(tokens: readonly Token[], i: number): string {
  const token = tokens[i]
  return token?.kind === 'word' || token?.text === '(' ? token.text.toUpperCase() : ''
}

function refuseStart(tokens: readonly Token[]): void {
  let at = 0
  while (wordAt(tokens, at) === '(') at++
  const first = wordAt(tokens, at)
  if (!STARTS.has(first)) throw notAQuestion(first || tokens[at]?.text || 'This')
  if (!['EXPLAIN', 'DESCRIBE', 'DESC'].includes(first)) return
  at++
  while (['EXTENDED', 'PARTITIONS'].includes(wordAt(tokens, at))) at++
  if (wordAt(tokens, at) === 'FORMAT' && tokens[at + 1]?.text === '=') at += 3
  // Of a table: its columns.
  const columns = tokens.length <= at + 4 && !tokens.slice(at).some(({ text }) => text === '(')
  const keyword = /^(ANALYZE|UPDATE|DELETE|INSERT|REPLACE|FOR)$/.test(wordAt(tokens, at))
  if (EXPLAINED.has(wordAt(tokens, at)) || (columns && !keyword)) return
  throw notAQuestion(`${first} ${tokens[at]?.text ?? ''}`.trim())
}

function refuseAt(tokens: readonly Token[], { kind, text }: Token, i: number): void {
  if (text === ':=') throw notAQuestion('Setting a variable (:=)')
  if (kind !== 'word' && kind !== 'name') return
  const word = kind === 'word' ? text.toUpperCase() : ''
  const next = wordAt(tokens, i + 1)
  const afterDot = tokens[i - 1]?.text === '.'
  if (!afterDot) {
    if (word === 'INTO') throw notAQuestion('INTO')
    if (word === 'PROCEDURE' && wordAt(tokens, 0) !== 'SHOW') throw notAQuestion('PROCEDURE')
    if (CHANGES.has(word) && next !== '(') throw notAQuestion(word)
    if (word === 'FOR' && next === 'UPDATE') throw notAQuestion('FOR UPDATE')
    if (word === 'LOCK' && next === 'IN') throw notAQuestion('LOCK IN SHARE MODE')
    if (['NEXT', 'PREVIOUS'].includes(word) && next === 'VALUE') throw notAQuestion(`${word} VALUE FOR`)
  }
  if (next !== '(' || isColumnList(tokens, i + 1)) return
  const lower = text.toLowerCase()
  if (kind === 'word' && !afterDot && (FUNCTIONS.has(lower) || BEFORE_BRACKETS.has(lower))) return
  const before = afterDot ? `${tokens[i - 2]?.text ?? ''}.` : ''
  throw notAQuestion(`The function ${before}${text}()`)
}

/** The brackets that open there hold the columns of a common table expression: `name (a, b) AS (`. */
function isColumnList(tokens: readonly Token[], open: number): boolean {
  let at = open + 1
  while (tokens[at] && tokens[at]!.text !== ')') {
    if (!['word', 'name'].includes(tokens[at]!.kind) && tokens[at]!.text !== ',') return false
    at++
  }
  return wordAt(tokens, at + 1) === 'AS' && wordAt(tokens, at + 2) === '('
}
