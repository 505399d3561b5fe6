/** The dialects that sources are written in. */
import { MARIADB_TYPES } from './mariadb-types.ts'
import { literal, POSTGRES_TYPES } from './postgres-types.ts'
import type { BuiltColumn, BuiltTable, Dialect } from './script.ts'

const quoted = (name: string) => `"${name.replaceAll('"', '""')}"`
const backticked = (name: string) => `\`${name.replaceAll('`', '``')}\``

const keyOf = (table: BuiltTable) => table.columns.filter(({ inKey }) => inKey)

function definition(
  { name, spec, notNull, generated, hasDefault }: BuiltColumn,
  ident: (name: string) => string,
  key: string,
  def: string,
) {
  if (generated) return `${ident(name)} int GENERATED ALWAYS AS (length(${key})) STORED`
  return `${ident(name)} ${spec.sql}${hasDefault ? ` DEFAULT ${def}` : ''}${notNull ? ' NOT NULL' : ''}`
}

/** `cursor`: the name of a column that says when a row was written, which the table gets. */
export function postgresDialect(cursor?: string): Dialect {
  const dialect: Dialect = {
    types: POSTGRES_TYPES,
    ident: quoted,
    nameable: name => name,
    allows: { deletes: !cursor, partitions: !cursor, truncate: true },
    create: table => {
      const name = quoted(table.name)
      const key = keyOf(table).map(column => quoted(column.name))
      const text = `${key[0]}::text COLLATE "C"`
      const columns = table.columns.map(column =>
        // Only what does not depend on settings can be computed.
        column.generated
          ? `${quoted(column.name)} int GENERATED ALWAYS AS (1 + 1) STORED`
          : definition(column, quoted, text, column.spec.value(1)),
      )
      if (cursor) columns.push(`${quoted(cursor)} timestamptz`)
      columns.push(`PRIMARY KEY (${key.join(', ')})`)
      if (table.unique && !table.partitioned) columns.push(`UNIQUE (${quoted(table.unique.name)})`)
      if (table.refers) columns.push(foreign(table, quoted, ''))
      const statements = [
        `CREATE TABLE ${name} (${columns.join(', ')})${table.partitioned ? ` PARTITION BY HASH (${key[0]})` : ''}`,
      ]
      if (table.partitioned)
        for (const i of [0, 1])
          statements.push(
            `CREATE TABLE ${quoted(`${table.name}/${i}`)} PARTITION OF ${name} FOR VALUES WITH (MODULUS 2, REMAINDER ${i})`,
          )
      if (cursor)
        statements.push(
          `CREATE OR REPLACE FUNCTION stamp() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN NEW.${quoted(cursor)} = clock_timestamp(); RETURN NEW; END $$`,
          `CREATE TRIGGER stamp BEFORE INSERT OR UPDATE ON ${name} FOR EACH ROW EXECUTE FUNCTION stamp()`,
        )
      if (table.identity === 4) statements.push(`ALTER TABLE ${name} REPLICA IDENTITY FULL`)
      if (table.identity === 5 && table.unique?.notNull && !table.partitioned)
        statements.push(
          `DO ${literal(`DECLARE i text; BEGIN
             SELECT c.relname INTO i FROM pg_index x JOIN pg_class c ON c.oid = x.indexrelid WHERE x.indrelid = ${literal(name)}::regclass AND NOT x.indisprimary;
             EXECUTE format('ALTER TABLE %s REPLICA IDENTITY USING INDEX %I', ${literal(name)}, i); END`)}`,
        )
      return statements
    },
    upsert: (table, insert, columns, way) => {
      const free = columns.filter(({ inKey }) => !inKey)
      const set = free.map(({ name }) => `${quoted(name)} = excluded.${quoted(name)}`)
      const key = keyOf(table).map(({ name }) => quoted(name))
      return `${insert} ON CONFLICT (${key.join(', ')}) DO ${way === 0 || set.length === 0 ? 'NOTHING' : `UPDATE SET ${set.join(', ')}`}`
    },
    inBlock: statement => [`DO ${literal(`BEGIN ${statement}; EXCEPTION WHEN OTHERS THEN NULL; END`)}`],
    truncate: table => `TRUNCATE ${quoted(table.name)}${table.refers ? '' : ' CASCADE'}`,
    harmless: (table, way) => [
      [
        `CREATE INDEX ON ${quoted(table.name)} (${quoted(keyOf(table)[0]!.name)})`,
        `COMMENT ON TABLE ${quoted(table.name)} IS 'odd'`,
        `ANALYZE ${quoted(table.name)}`,
        `ALTER TABLE ${quoted(table.name)} SET (fillfactor = 70)`,
      ][way % 4]!,
    ],
  }
  return dialect
}

function foreign(table: BuiltTable, ident: (name: string) => string, actions: string): string {
  const mine = keyOf(table).map(({ name }) => ident(name))
  const theirs = keyOf(table.refers!).map(({ name }) => ident(name))
  return `FOREIGN KEY (${mine.slice(0, theirs.length).join(', ')}) REFERENCES ${ident(table.refers!.name)} (${theirs.join(', ')})${actions}`
}

/** Now and then only the beginning of a text is in the index. */
function indexed({ name, spec }: BuiltColumn, { identity }: BuiltTable): string {
  const short = identity === 7 && /^varchar\(\d\d/.test(spec.sql)
  return `${backticked(name)}${short ? '(5)' : ''}`
}

export const mariadbDialect: Dialect = {
  types: MARIADB_TYPES,
  ident: backticked,
  nameable: name => name.replace(/[\u{10000}-\u{10ffff}]/gu, '').trim() || 'x',
  allows: { deletes: true, partitions: true, truncate: true },
  create: table => {
    const key = keyOf(table).map(({ name }) => backticked(name))
    const columns = table.columns.map(column =>
      definition(
        column,
        backticked,
        key[0]!,
        column.spec.family === 'number' ? column.spec.value(0) : `(${column.spec.value(0)})`,
      ),
    )
    columns.push(
      `PRIMARY KEY (${keyOf(table)
        .map(column => indexed(column, table))
        .join(', ')})`,
    )
    if (table.unique && !table.partitioned) columns.push(`UNIQUE (${backticked(table.unique.name)})`)
    if (table.refers)
      columns.push(foreign(table, backticked, table.identity % 3 === 0 ? ' ON DELETE CASCADE' : ''))
    const charset = table.identity % 4 === 3 ? ' DEFAULT CHARACTER SET latin1' : ''
    return [
      `CREATE TABLE ${backticked(table.name)} (${columns.join(', ')}) ENGINE = InnoDB${charset}${table.partitioned ? ` PARTITION BY KEY (${key[0]}) PARTITIONS 2` : ''}`,
    ]
  },
  upsert: (_table, insert, columns, way) => {
    if (way === 0) return insert.replace(/^INSERT/, 'INSERT IGNORE')
    if (way === 1) return insert.replace(/^INSERT/, 'REPLACE')
    const free = columns.filter(({ inKey }) => !inKey)
    const set = (free.length > 0 ? free : columns).map(
      ({ name }) => `${backticked(name)} = VALUES(${backticked(name)})`,
    )
    return `${insert} ON DUPLICATE KEY UPDATE ${set.join(', ')}`
  },
  inBlock: statement => [`BEGIN NOT ATOMIC ${statement}; END`],
  truncate: table => `TRUNCATE TABLE ${backticked(table.name)}`,
  harmless: (table, way) => [
    [
      `CREATE INDEX i${way} ON ${backticked(table.name)} (${backticked(keyOf(table)[0]!.name)})`,
      `ALTER TABLE ${backticked(table.name)} COMMENT = 'odd'`,
      `ANALYZE TABLE ${backticked(table.name)}`,
      `ALTER TABLE ${backticked(table.name)} FORCE`,
      `OPTIMIZE TABLE ${backticked(table.name)}`,
    ][way % 5]!,
  ],
}
