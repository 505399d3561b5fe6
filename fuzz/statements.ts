/** Random statements in each system's grammar: mostly of what is allowed, some hostile, wrapped and nested in each other. */
import { FUNCTIONS as DUCKDB, OPERATORS, TABLE_FUNCTIONS } from '@tide/connectors/duckdb/functions'
import { FUNCTIONS as MARIADB } from '@tide/connectors/mariadb/question/functions'
import { FUNCTIONS as POSTGRES } from '@tide/connectors/postgres/question/functions'
import type { Random } from '../soak/random.ts'

export type Kind = 'postgres' | 'mariadb' | 'duckdb'

/** What a function takes, where the system can say so. */
export interface Signature {
  name: string
  types: string[]
}

const HOSTILE: Record<Kind, string[]> = {
  postgres:
    `DROP TABLE trays|DELETE FROM trays|TRUNCATE trays|SELECT pg_terminate_backend(pid) FROM pg_stat_activity|SELECT pg_drop_replication_slot('kept')|SELECT pg_reload_conf()|SELECT set_config('x.y', 'z', false)|SELECT nextval('numbers')|SELECT setval('numbers', 7)|SELECT lo_create(0)|SELECT pg_advisory_lock(1)|COPY trays TO '/tmp/constant-tide-fuzz'|SELECT pg_read_file('/etc/passwd')|SELECT * INTO copied FROM trays|CREATE TABLE made AS SELECT 1|DO $$BEGIN DELETE FROM trays; END$$|CALL own()|LOCK TABLE trays|NOTIFY x|SET ROLE postgres|RESET ALL|DISCARD ALL|PREPARE TRANSACTION 'x'|SELECT query_to_xml('DELETE FROM trays', true, true, '')|WITH x AS (DELETE FROM trays RETURNING *) SELECT * FROM x|EXPLAIN ANALYZE DELETE FROM trays|SELECT pg_logical_emit_message(true, 'a', 'b')|SELECT pg_create_physical_replication_slot('made')|SELECT * FROM trays FOR UPDATE|SELECT pg_sleep(60)`.split(
      '|',
    ),
  mariadb:
    `DROP TABLE trays|DELETE FROM trays|TRUNCATE trays|DROP DATABASE site|SET GLOBAL max_connections = 5|SET PASSWORD = PASSWORD('x')|RESET MASTER|FLUSH TABLES|SELECT * FROM trays INTO OUTFILE '/tmp/constant-tide-fuzz'|SELECT 1 INTO @a|BEGIN NOT ATOMIC DELETE FROM trays; END|SET STATEMENT max_statement_time=0 FOR SELECT sleep(9)|SELECT sleep(60)|SELECT benchmark(1e9, md5('a'))|SELECT get_lock('x', 1)|SELECT NEXT VALUE FOR numbers|SELECT nextval(numbers)|SELECT load_file('/etc/passwd')|SELECT @a := 1|LOCK TABLES trays WRITE|KILL 1|SHUTDOWN|CALL own()|HANDLER trays OPEN|ANALYZE SELECT 1|PREPARE s FROM 'DELETE FROM trays'|XA START 'a'|DO sleep(9)|SELECT /*!50000 sleep(9) */|CREATE TABLE made AS SELECT 1|SELECT * FROM trays FOR UPDATE|GRANT ALL ON *.* TO osier@'%'`.split(
      '|',
    ),
  duckdb:
    `DROP TABLE trays|DELETE FROM trays|TRUNCATE trays|COPY trays TO '/tmp/constant-tide-fuzz'|EXPLAIN ANALYZE COPY trays TO '/tmp/constant-tide-fuzz'|EXPLAIN ANALYZE DELETE FROM trays|SET GLOBAL threads = 1|SET memory_limit = '1GB'|PRAGMA enable_profiling|SELECT * FROM enable_logging('x')|SELECT * FROM checkpoint()|CHECKPOINT|FORCE CHECKPOINT|ATTACH ':memory:' AS other|DETACH other|SELECT * FROM read_csv('/etc/passwd')|SELECT * FROM '/etc/passwd'|SELECT * FROM glob('/*')|SELECT nextval('numbers')|SELECT setseed(0.1)|SELECT write_log('x')|SELECT * FROM query('DROP TABLE trays')|SELECT * FROM query_table('trays')|SELECT len(range(100000000))|SELECT repeat('x', 2000000000)|INSTALL httpfs|LOAD json|CREATE TABLE made AS SELECT 1|CALL pragma_version()|USE system|EXPORT DATABASE '/tmp/constant-tide-fuzz'|SELECT * FROM sniff_csv('/etc/passwd')|SELECT * FROM truncate_duckdb_logs()|SELECT getenv('HOME')|VACUUM|SELECT sleep_ms(60000)`.split(
      '|',
    ),
}

export const ALLOWED: Record<Kind, string[]> = {
  postgres: [...POSTGRES],
  mariadb: [...MARIADB],
  duckdb: [...DUCKDB],
}

const TABLES: Record<Kind, string[]> = {
  postgres: [
    'trays',
    'generate_series(1, 5) g',
    '(VALUES (1, 2)) v',
    'pg_class',
    'information_schema.tables',
  ],
  mariadb: ['trays', 'seq_1_to_5', '(SELECT 1 AS a) v', 'information_schema.tables'],
  duckdb: [
    'trays',
    'range(5) g',
    '(VALUES (1, 2)) v',
    'information_schema.tables',
    ...[...TABLE_FUNCTIONS].map(name => `${name}()`),
  ],
}

const TYPES: Record<Kind, string[]> = {
  postgres: [
    'int',
    'text',
    'numeric',
    'date',
    'timestamptz',
    'interval',
    'json',
    'jsonb',
    'bytea',
    'int[]',
    'text[]',
    'regclass',
  ],
  mariadb: ['signed', 'unsigned', 'char', 'decimal(30,10)', 'date', 'datetime(6)', 'time', 'binary'],
  duckdb: [
    'INT',
    'VARCHAR',
    'DOUBLE',
    'DATE',
    'TIMESTAMPTZ',
    'INTERVAL',
    'JSON',
    'BLOB',
    'INT[]',
    'VARCHAR[]',
    'HUGEINT',
    'DECIMAL(38,10)',
    'STRUCT(a INT)',
    'MAP(INT, INT)',
    'BIT',
    'UUID',
  ],
}

const VALUES =
  `NULL|0|1|-1|2|255|2147483647|-2147483648|9223372036854775807|1e308|0.1|''|'a'|'ä🌱'|'%'|'a,b'|'[1,2]'|'{"a":1}'|'2026-05-04'|'2026-05-04 07:00:00'|'infinity'|'0x41'|'(a|b)*c'|'\\\\'|'%d %s'|'UTC'|'utf8'|id|label`.split(
    '|',
  )

/** Literals that fit a type; of others there is NULL. */
const FITTING: [RegExp, string[]][] = [
  [
    /^(big|small|u?tiny|huge|u)?int|^integer|^oid|^decimal|^numeric|^double|^float|^real/i,
    ['0', '1', '-1', '3', '100', '2147483647', 'id'],
  ],
  [/\[\]$/, ["'{1,2}'", "'{}'"]],
  [/text|char|name|any|^"|^T$/i, ["'a'", "''", "'ä🌱'", "'a,b'", "'2026-05-04'", "'[a-c]+'", 'label']],
  [/json/i, [`'{"a": [1, null]}'`, `'[]'`, `'null'`]],
  [/^date|^timestamp|^time/i, ["'2026-05-04'", "'2026-05-04 07:00:00'"]],
  [/^interval/i, ["'1 day'", "'-3 months'"]],
  [/bool/i, ['true', 'false']],
  [/bytea|blob/i, ["'\\x00ff'", "''"]],
  [/regclass/i, ["'trays'"]],
]

function fitting(type: string, kind: Kind, chance: Random): string {
  if (kind === 'duckdb' && /\[\]$/.test(type)) return chance.pick(['[1, 2]', '[]', "['a']"])
  const values = FITTING.find(([pattern]) => pattern.test(type))?.[1] ?? ['NULL']
  const value = chance.below(8) === 0 ? 'NULL' : chance.pick(values)
  return kind === 'postgres' && /^['N]/.test(value) && !/any|internal/.test(type)
    ? `${value}::${type}`
    : value
}

/** A call whose arguments fit. */
function call(kind: Kind, { name, types }: Signature, chance: Random): string {
  return `${name}(${types.map(type => fitting(type, kind, chance)).join(', ')})`
}

export function statement(kind: Kind, signatures: readonly Signature[], chance: Random): string {
  const roll = chance.below(100)
  if (roll >= 60 && signatures.length > 0) {
    const calls = Array.from({ length: 1 + chance.below(3) }, () =>
      call(kind, chance.pick(signatures), chance),
    )
    const end = chance.pick(['', 'LIMIT 3', 'ORDER BY 1', `WHERE ${chance.pick(calls)} IS NOT NULL`])
    return `SELECT ${calls.join(', ')} FROM trays ${end}`
  }
  if (roll < 25) return disguised(chance.pick(HOSTILE[kind]), chance)
  const asked = select(kind, chance, 3)
  if (roll < 35) return wrapped(kind, chance.pick(HOSTILE[kind]), chance)
  if (roll < 40) return broken(asked, chance)
  return roll < 45 ? `EXPLAIN ${asked}` : asked
}

function select(kind: Kind, chance: Random, depth: number): string {
  const many = (most: number, one: () => string) =>
    Array.from({ length: 1 + chance.below(most) }, one).join(', ')
  const from =
    depth > 0 && chance.below(4) === 0
      ? `(${select(kind, chance, depth - 1)}) s`
      : chance.below(5) === 0
        ? `${chance.pick(TABLES[kind])}, trays t`
        : chance.pick(TABLES[kind])
  const parts = [
    chance.below(6) === 0 && depth > 0 ? `WITH w AS (${select(kind, chance, depth - 1)})` : '',
    `SELECT ${many(3, () => expression(kind, chance, depth))} FROM ${from}`,
    chance.below(3) === 0 ? `WHERE ${expression(kind, chance, depth)}` : '',
    chance.below(6) === 0 ? 'GROUP BY 1' : '',
    chance.below(5) === 0 ? 'ORDER BY 1' : '',
    chance.below(6) === 0 ? `LIMIT ${chance.below(2_000_000)}` : '',
    chance.below(12) === 0 && depth > 0 ? `UNION ALL ${select(kind, chance, 0)}` : '',
  ]
  return parts.filter(Boolean).join(' ')
}

function expression(kind: Kind, chance: Random, depth: number): string {
  if (depth === 0) return chance.pick(VALUES)
  const inner = () => expression(kind, chance, depth - 1)
  switch (chance.below(10)) {
    case 0:
      return `CAST(${inner()} AS ${chance.pick(TYPES[kind])})`
    case 1:
      return `CASE WHEN ${inner()} THEN ${inner()} ELSE ${inner()} END`
    case 2:
      return `(${inner()} ${chance.pick(['+', '-', '*', '/', '%', '||', '=', '<', 'AND', 'OR', 'LIKE', 'IS NOT', 'IN'])} (${inner()}))`
    case 3:
      return `(SELECT ${inner()})`
    case 4:
      return kind === 'duckdb' ? `(${inner()}) ${chance.pick([...OPERATORS])} (${inner()})` : inner()
    case 5:
      return `count(*) OVER (ORDER BY ${inner()})`
    default: {
      const args = Array.from({ length: chance.below(5) }, inner)
      return `${chance.pick(ALLOWED[kind])}(${args.join(', ')})`
    }
  }
}

/** The same statement, so that a pattern over its text would not know it. */
function disguised(sql: string, chance: Random): string {
  const spaces = ['/**/', '\n', '\t ', ' /* SELECT 1 */ ', ' ']
  const dressed = sql.replace(/ /g, () => chance.pick(spaces))
  switch (chance.below(7)) {
    case 0:
      return dressed.toLowerCase()
    case 1:
      return `-- SELECT\n${dressed}`
    case 2:
      return `SELECT 1; ${dressed}`
    case 3:
      return `${dressed};;`
    case 4:
      return `(${dressed})`
    case 5:
      return `EXPLAIN ${dressed}`
    default:
      return dressed
  }
}

function wrapped(kind: Kind, sql: string, chance: Random): string {
  const call = /^SELECT (\w+\(.*\))$/.exec(sql)?.[1]
  switch (chance.below(5)) {
    case 0:
      return `WITH x AS (${sql}) SELECT * FROM x`
    case 1:
      return `SELECT * FROM (${sql}) x`
    case 2:
      return `SELECT 1 UNION ALL ${sql}`
    case 3:
      return `SELECT CASE WHEN true THEN ${call ?? `(${sql})`} END`
    default:
      return `${select(kind, chance, 1)} WHERE EXISTS (${sql})`
  }
}

/** With a piece cut out, doubled, or put in. */
function broken(sql: string, chance: Random): string {
  const [from, to] = [chance.below(sql.length), chance.below(sql.length)].sort((a, b) => a - b) as [
    number,
    number,
  ]
  const piece = chance.pick([
    sql.slice(from, to).repeat(2),
    "'",
    '"',
    '$$',
    '/*',
    '*/',
    '(',
    ')',
    ';',
    '\\',
    '\u202e',
    '[',
    ':=',
  ])
  return `${sql.slice(0, from)}${piece}${sql.slice(to)}`
}
