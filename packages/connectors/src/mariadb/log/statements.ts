/** What the statements in a binary log mean for tables whose rows are followed. */
import type { DatasetName } from '@tide/core/records/dataset'

export interface SchemaChange {
  /**
   * `truncated`: all rows went, the table is as it was. `replaced`: what follows is another table, or none. `altered`: its
   * columns were changed, and with them perhaps the values in all its rows.
   */
  kind: 'truncated' | 'replaced' | 'altered'
  tables: DatasetName[]
}

/**
 * - `control`: begins, ends or marks a part of a transaction
 * - `xa commit`, `xa rollback`: ends a transaction that was prepared
 * - `definition`: changes no rows but those of the tables it drops, empties or alters
 * - `temporary`: makes or drops tables that nobody else sees
 * - `rows`: changes rows, or may
 */
export interface Statement {
  kind: 'control' | 'xa commit' | 'xa rollback' | 'definition' | 'temporary' | 'rows'
  change?: SchemaChange
}

/** First words of statements that change no rows of tables, or only as `schemaChange` says. */
const DEFINITIONS = new Set(
  `CREATE ALTER DROP RENAME TRUNCATE GRANT REVOKE OPTIMIZE REPAIR CHECK FLUSH INSTALL UNINSTALL CACHE RESET`.split(
    ' ',
  ),
)
const CONTROL = new Set(['BEGIN', 'START', 'COMMIT', 'ROLLBACK', 'SAVEPOINT', 'RELEASE'])

/** Reads a statement as far as rows are concerned. `schema` is the database it ran in. */
export function readStatement(sql: string, schema: string, tables: readonly DatasetName[]): Statement {
  const tokens = withoutSettings(tokensOf(sql))
  const word = wordAt(tokens, 0)
  if (word === 'XA') {
    const second = wordAt(tokens, 1)
    if (second === 'COMMIT') return { kind: 'xa commit' }
    return { kind: second === 'ROLLBACK' ? 'xa rollback' : 'control' }
  }
  if (CONTROL.has(word)) return { kind: 'control' }
  if (isTemporary(tokens)) return { kind: 'temporary' }
  if (word === 'SET') return { kind: wordAt(tokens, 1) === 'STATEMENT' ? 'rows' : 'definition' }
  if (word === 'ANALYZE') return { kind: isAnalyzeTable(tokens) ? 'definition' : 'rows' }
  if (!DEFINITIONS.has(word)) return { kind: 'rows' }
  const change = changeOf(tokens, schema, tables)
  return { kind: 'definition', ...(change ? { change } : {}) }
}

interface Token {
  /** `name`: between backticks, or between double quotes, which depends on the session. */
  kind: 'word' | 'name' | 'text' | 'sign'
  text: string
}

const TOKEN =
  /\/\*M?!\d*|\*\/|\/\*[\s\S]*?\*\/|(?:--(?=\s|$)|#)[^\n]*|`(?:[^`]|``)*`|"(?:[^"\\]|""|\\[\s\S])*"|'(?:[^'\\]|''|\\[\s\S])*'|[\w$\u0080-\uffff]+|[^\s]/g

/** Comments are left out, but for what stands in those that servers carry out. */
function tokensOf(sql: string): Token[] {
  return [...sql.matchAll(TOKEN)].flatMap(([text]): Token[] => {
    if (/^(\/\*|\*\/|--|#)/.test(text)) return []
    if (text.startsWith('`')) return [{ kind: 'name', text: text.slice(1, -1).replaceAll('``', '`') }]
    if (text.startsWith('"')) return [{ kind: 'name', text: text.slice(1, -1).replaceAll('""', '"') }]
    if (text.startsWith("'")) return [{ kind: 'text', text }]
    return [{ kind: /^[\w$\u0080-\uffff]/.test(text) ? 'word' : 'sign', text }]
  })
}

function wordAt(tokens: readonly Token[], i: number): string {
  return tokens[i]?.kind === 'word' ? tokens[i].text.toUpperCase() : ''
}

/** `SET STATEMENT … FOR` before a statement changes nothing about what it does to rows. */
function withoutSettings(tokens: Token[]): Token[] {
  if (wordAt(tokens, 0) !== 'SET' || wordAt(tokens, 1) !== 'STATEMENT') return tokens
  let depth = 0
  const end = tokens.findIndex((token, i) => {
    if (token.text === '(') depth++
    if (token.text === ')') depth--
    return depth === 0 && wordAt(tokens, i) === 'FOR'
  })
  return end === -1 ? tokens : withoutSettings(tokens.slice(end + 1))
}

function isTemporary(tokens: readonly Token[]): boolean {
  const words = tokens.slice(0, 5).map((_, i) => wordAt(tokens, i))
  const at = words.indexOf('TEMPORARY')
  if (at === -1) return false
  const before = words.slice(0, at).join(' ')
  return ['CREATE', 'CREATE OR REPLACE', 'DROP'].includes(before)
}

function isAnalyzeTable(tokens: readonly Token[]): boolean {
  const words = [wordAt(tokens, 1), wordAt(tokens, 2)]
  return words[0] === 'TABLE' || (['LOCAL', 'NO_WRITE_TO_BINLOG'].includes(words[0]!) && words[1] === 'TABLE')
}

function changeOf(
  tokens: readonly Token[],
  schema: string,
  tables: readonly DatasetName[],
): SchemaChange | undefined {
  const words = tokens.slice(0, 6).map((_, i) => wordAt(tokens, i))
  const [first, second] = words as [string, string]
  const all = () => namesIn(tokens, schema)
  if (first === 'TRUNCATE') return truncated(nameAt(tokens, second === 'TABLE' ? 2 : 1, schema).name, tables)
  if (first === 'DROP' && ['DATABASE', 'SCHEMA'].includes(second)) {
    const gone = tokens.slice(2).map(({ text }) => text)
    const within = tables.filter(({ namespace }) => gone.some(name => same(name, namespace)))
    return changed('replaced', within, tables)
  }
  const replaces =
    (first === 'DROP' || first === 'RENAME' || (first === 'CREATE' && second === 'OR')) &&
    words.some(word => word === 'TABLE' || word === 'TABLES')
  if (replaces) return changed('replaced', all(), tables)
  if (first !== 'ALTER' || !words.includes('TABLE')) return undefined
  const { name, next } = nameAt(tokens, words.indexOf('TABLE') + 1, schema)
  const kinds = actionsOf(tokens.slice(next)).map(actionKind)
  // A new name may stand anywhere.
  if (kinds.includes('replaced')) return changed('replaced', all(), tables)
  return kinds.includes('altered') ? changed('altered', [name], tables) : undefined
}

/** The table's name that stands there, perhaps behind IF EXISTS; `next`: where what follows it begins. */
function nameAt(tokens: readonly Token[], at: number, schema: string): { name: DatasetName; next: number } {
  const start = wordAt(tokens, at) === 'IF' && wordAt(tokens, at + 1) === 'EXISTS' ? at + 2 : at
  const text = (i: number) => tokens[i]?.text ?? ''
  return text(start + 1) === '.'
    ? { name: { namespace: text(start), name: text(start + 2) }, next: start + 3 }
    : { name: { namespace: schema, name: text(start) }, next: start + 1 }
}

/** What stands between the commas of an ALTER TABLE, each as its words; `body`: what follows the table's name. */
function actionsOf(body: readonly Token[]): string[][] {
  const actions: Token[][] = [[]]
  let depth = 0
  for (const token of body) {
    if (token.text === '(') depth++
    if (token.text === ')') depth--
    if (token.text === ',' && depth === 0) actions.push([])
    else actions.at(-1)!.push(token)
  }
  const waits = ['NOWAIT', 'WAIT'].indexOf(wordAt(actions[0]!, 0)) + 1
  actions[0] = actions[0]!.slice(waits)
  return actions.map(tokens => tokens.map((_, i) => wordAt(tokens, i)))
}

const ABOUT_PARTITIONS = ['PARTITION', 'PARTITIONS']
/** Second words of ADD, DROP and RENAME that are about something else than columns. */
const NOT_COLUMNS = new Set(
  `INDEX KEY UNIQUE FULLTEXT SPATIAL CONSTRAINT FOREIGN CHECK PERIOD SYSTEM PRIMARY`.split(' '),
)
/** Actions that change neither rows nor columns. */
const HARMLESS = new Set(
  `ALTER COMMENT ENGINE AUTO_INCREMENT FORCE ORDER ROW_FORMAT KEY_BLOCK_SIZE ENABLE DISABLE ALGORITHM LOCK DEFAULT
   CHARACTER CHARSET COLLATE MAX_ROWS MIN_ROWS AVG_ROW_LENGTH CHECKSUM DELAY_KEY_WRITE INSERT_METHOD PACK_KEYS PAGE_CHECKSUM PAGE_COMPRESSED
   PAGE_COMPRESSION_LEVEL STATS_AUTO_RECALC STATS_PERSISTENT STATS_SAMPLE_PAGES TRANSACTIONAL ENCRYPTED
   ENCRYPTION_KEY_ID ANALYZE CHECK OPTIMIZE REBUILD REPAIR COALESCE REORGANIZE REMOVE PARTITION`.split(/\s+/),
)

function actionKind(words: readonly string[]): 'replaced' | 'altered' | undefined {
  const [first = '', second = ''] = words
  if (first === '') return undefined
  const partitions = ABOUT_PARTITIONS.includes(second)
  if (['TRUNCATE', 'EXCHANGE', 'CONVERT'].includes(first) && partitions) return 'replaced'
  if (first === 'DISCARD' || first === 'IMPORT') return 'replaced'
  if (first === 'DROP') {
    if (partitions) return 'replaced'
    return second === 'PRIMARY' || !NOT_COLUMNS.has(second) ? 'altered' : undefined
  }
  if (first === 'ADD') return partitions || NOT_COLUMNS.has(second) ? undefined : 'altered'
  if (first === 'RENAME') {
    if (second === 'COLUMN') return 'altered'
    return second === 'INDEX' || second === 'KEY' ? undefined : 'replaced'
  }
  // `ALTER COLUMN … SET DEFAULT` and the like.
  return HARMLESS.has(first) ? undefined : 'altered'
}

/** Any name that is written is taken for one that is meant; taking too many does no harm. */
function namesIn(tokens: readonly Token[], schema: string): DatasetName[] {
  return tokens.flatMap(({ kind, text }, i): DatasetName[] => {
    if (kind !== 'word' && kind !== 'name') return []
    const after = tokens[i + 2]
    const qualified = tokens[i + 1]?.text === '.' && after && after.kind !== 'sign'
    return [{ namespace: schema, name: text }, ...(qualified ? [{ namespace: text, name: after.text }] : [])]
  })
}

function changed(
  kind: SchemaChange['kind'],
  names: readonly DatasetName[],
  tables: readonly DatasetName[],
): SchemaChange | undefined {
  const meant = tables.filter(table =>
    names.some(({ namespace, name }) => same(namespace, table.namespace) && same(name, table.name)),
  )
  return meant.length > 0 ? { kind, tables: meant } : undefined
}

/** Rows must not go because of a table whose name is only like it. */
function truncated(name: DatasetName, tables: readonly DatasetName[]): SchemaChange | undefined {
  const meant = tables.filter(table => table.namespace === name.namespace && table.name === name.name)
  return meant.length > 0 ? { kind: 'truncated', tables: meant } : changed('replaced', [name], tables)
}

/** Servers on some systems fold names; taking too many for meant does no harm. */
function same(a: string, b: string): boolean {
  return a.toLowerCase() === b.toLowerCase()
}
