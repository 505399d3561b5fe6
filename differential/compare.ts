/** Compares what a source and a target hold, by their own SQL. */
import type { Condition } from '@tide/core/scope/condition'
import { madeOf, type Lane, type WrittenColumn } from '@tide/core/plan/lane'
import { DuckDBInstance } from '@duckdb/node-api'
import { createHmac } from 'node:crypto'
import { join } from 'node:path'
import { mariadbDialect } from './dialects.ts'
import { MASK_KEY, type Following } from './following.ts'
import { rowsOfFiles } from './change-files.ts'
import { rowsOfMerged } from './merged.ts'
import { HEX, renderedBy, renderingOf, type Rendering, type SystemKind, type TargetName } from './render.ts'
import type { BuiltTable } from './script.ts'
import type { Source } from './source.ts'
import { CURSOR, PLAIN_SETTINGS, plainClient, TARGET_DATABASE, type Systems } from './systems.ts'
import type { TypeSpec } from './types.ts'

/** What differs, in words; nothing when nothing does. */
export async function compare(
  systems: Systems,
  source: Source,
  tables: readonly BuiltTable[],
  following: Following,
  folder: string,
): Promise<string> {
  for (const lane of following.plan.lanes) {
    const table = tables.find(({ name }) => name === lane.source.name)!
    const columns = lane.writes.filter(column => ![undefined, CURSOR].includes(sourceOf(column)))
    const target = identOf(following.target)
    const kind = renderedBy(following.target)
    const renderings = columns.map(column => {
      const name = sourceOf(column)!
      if (column.value.from === 'retyped') return asNumber(source, kind, name, target(column.name))
      if (['masked', 'computed', 'cut'].includes(column.value.from))
        return asHex(source, kind, table, name, target(column.name))
      return renderingOf(
        source.kind,
        kind,
        specOf(table, name),
        source.dialect.ident(name),
        column,
        target(column.name),
      )
    })
    const here = await source.rows(
      `SELECT ${renderings.map(one => one.source).join(', ')} FROM ${source.dialect.ident(source.namespace)}.${source.dialect.ident(table.name)}${scopeOf(lane, source)}`,
    )
    const there = await targetRows(
      systems,
      following.target,
      folder,
      `SELECT ${renderings.map(one => one.target).join(', ')} FROM ${target(lane.target.namespace)}.${target(lane.target.name)}${unmarked(lane, target)}`,
    )
    const difference = differ(normal(made(here, columns), renderings), normal(there, renderings))
    if (difference)
      return `${table.name} (${columns.map(column => `${sourceOf(column)}: ${lane.reads.find(({ name }) => name === sourceOf(column))?.nativeType} → ${column.nativeType}`).join('; ')}): ${difference}`
  }
  return ''
}

/** The column that something is made of; what is computed here is of one text. */
function sourceOf(column: WrittenColumn): string | undefined {
  if (column.value.from !== 'computed') return madeOf(column)
  const [, name] = /^row\[("(?:[^"\\]|\\.)*")\]/.exec(column.value.expression)!
  return JSON.parse(name!) as string
}

/** The text at the source and what is made of it at the target, as hexadecimal digits of their bytes. */
function asHex(source: Source, to: SystemKind, table: BuiltTable, name: string, target: string): Rendering {
  const text = renderingOf(
    source.kind,
    'duckdb',
    specOf(table, name),
    source.dialect.ident(name),
    { name, type: { kind: 'utf8' }, nativeType: 'VARCHAR', nullable: true },
    '',
  )
  return { source: text.source, target: HEX[to](target), normal: value => value.toLowerCase() }
}

const NUMBER: Record<SystemKind, (column: string) => string> = {
  // By way of text, for not every whole number there is cast to another.
  postgres: column => `${column}::text::numeric(38,0)::text`,
  mariadb: column => `CAST(CAST(${column} AS DECIMAL(38,0)) AS CHAR)`,
  duckdb: column => `${column}::DECIMAL(38,0)::VARCHAR`,
}

/** A whole number that became another type. */
function asNumber(source: Source, to: SystemKind, name: string, target: string): Rendering {
  const normal = (text: string) => text
  return { source: NUMBER[source.kind](source.dialect.ident(name)), target: NUMBER[to](target), normal }
}

/** What masked and computed columns should be: by node's own HMAC, and by JavaScript. What is cut is cut as Buffer does. */
function made(rows: (string | null)[][], columns: readonly WrittenColumn[]): (string | null)[][] {
  return rows.map(row =>
    row.map((value, i) => {
      const written = columns[i]!.value
      const { from } = written
      if (from === 'computed') return value === null ? hexOf('none') : `${value}${hexOf('!')}`
      if (value !== null && written.from === 'cut') return cutHex(value, written.bytes)
      if (value === null || from !== 'masked') return value
      const hash = createHmac('sha256', MASK_KEY).update(Buffer.from(value, 'hex')).digest('hex')
      return hexOf(hash)
    }),
  )
}

/** A character of which only a part would be left is left away. */
function cutHex(hex: string, bytes: number): string {
  const all = Buffer.from(hex, 'hex')
  let end = Math.min(bytes, all.length)
  while (end > 0 && end < all.length && (all[end]! & 0xc0) === 0x80) end--
  return all.subarray(0, end).toString('hex')
}

const hexOf = (text: string) => Buffer.from(text).toString('hex')

function scopeOf({ scope }: Lane, { dialect }: Source): string {
  if (scope === null) return ''
  if ('op' in scope) {
    const literal = `'${scope.value.replaceAll("'", "''")}'`
    return ` WHERE ${literal} = ANY (${dialect.ident(scope.column)}::text[])`
  }
  const [column, isNull] = scopeMade(scope)
  return ` WHERE ${dialect.ident(column)} IS ${isNull ? 'NULL' : 'NOT NULL'}`
}

/** The condition or the expression that `shaping.ts` has made. */
function scopeMade(scope: Condition): [column: string, isNull: boolean] {
  if ('isNull' in scope) return [scope.column, scope.isNull]
  const made = 'expression' in scope ? /^(!?)has\(row\[(.*)\]\)$/s.exec(scope.expression) : null
  if (!made) throw new Error('a scope that is not made here')
  return [JSON.parse(made[2]!) as string, made[1] === '!']
}

/** Rows that the source has deleted stay, marked. */
export function unmarked({ writes }: Lane, target: (name: string) => string): string {
  const mark = writes.find(({ value }) => value.from === 'metadata' && value.what === 'deleted at')
  return mark ? ` WHERE ${target(mark.name)} IS NULL` : ''
}

/** What is computed is a whole number. */
const COMPUTED: TypeSpec = { sql: 'int', family: 'number', value: String }

function specOf(table: BuiltTable, name: string): TypeSpec {
  const { spec, generated } = table.columns.find(column => column.name === name)!
  return generated ? COMPUTED : spec
}

export const identOf = (kind: TargetName) =>
  kind === 'mariadb' ? mariadbDialect.ident : (name: string) => `"${name.replaceAll('"', '""')}"`

function normal(rows: (string | null)[][], renderings: readonly Rendering[]): string[] {
  return rows
    .map(row => JSON.stringify(row.map((value, i) => (value === null ? null : renderings[i]!.normal(value)))))
    .sort()
}

function differ(here: string[], there: string[]): string {
  if (JSON.stringify(here) === JSON.stringify(there)) return ''
  const left = new Map<string, number>()
  for (const row of there) left.set(row, (left.get(row) ?? 0) + 1)
  const missing = here.filter(row => {
    const count = left.get(row) ?? 0
    left.set(row, count - 1)
    return count <= 0
  })
  const extra = [...left].flatMap(([row, count]) => (count > 0 ? [row] : []))
  return `${here.length} rows at the source, ${there.length} at the target; only at the source ${missing.slice(0, 2).join(' ').slice(0, 700)}; only at the target ${extra.slice(0, 2).join(' ').slice(0, 700)}`
}

export async function targetRows(
  systems: Systems,
  kind: TargetName,
  folder: string,
  sql: string,
): Promise<(string | null)[][]> {
  if (kind === 'folder') return rowsOfFiles(join(folder, 'lake'), sql)
  if (kind === 'merged') return rowsOfMerged(join(folder, 'merged'), sql)
  if (kind === 'duckdb') {
    const instance = await DuckDBInstance.create(join(folder, 'warehouse.duckdb'), { threads: '1' })
    const connection = await instance.connect()
    try {
      await connection.run(`SET TimeZone = 'UTC'`)
      return (await connection.runAndReadAll(sql)).getRows() as (string | null)[][]
    } finally {
      connection.disconnectSync()
      instance.closeSync()
    }
  }
  if (kind === 'mariadb') {
    const session = await systems.mariadb.connect()
    return session.arrays(sql).finally(() => session.close())
  }
  const client = await plainClient({ ...systems.postgres.config, database: TARGET_DATABASE })
  try {
    await client.query(PLAIN_SETTINGS)
    return (await client.query({ text: sql, rowMode: 'array' })).rows
  } finally {
    await client.end()
  }
}

/** Takes away what a case has made in shared targets. */
export async function dropTargets(systems: Systems, schema: string): Promise<void> {
  const session = await systems.mariadb.connect()
  await session.run(`DROP DATABASE IF EXISTS ${schema}`)
  await session.close()
  const client = await plainClient({ ...systems.postgres.config, database: TARGET_DATABASE })
  await client.query(`DROP SCHEMA IF EXISTS ${schema} CASCADE`)
  await client.end()
}
