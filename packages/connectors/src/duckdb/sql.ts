/** The SQL of the DuckDB target: quoting, statements of the plan, and how CSV becomes typed columns. */
import type { Column } from '@tide/core/records/column'
import type { Alteration } from '@tide/core/plan/alteration'
import type { PrepareStep } from '@tide/core/plan/steps'
import type { DatasetName } from '@tide/core/records/dataset'
import type { LogicalType } from '@tide/core/records/types'
import { CheckpointSql } from '../checkpoint.ts'
import type { TargetLane } from '../contract/target.ts'

/** The schema that holds our checkpoints at a target. */
export const STATE_SCHEMA = 'constant_tide'

export function ident(name: string): string {
  return `"${name.replaceAll('"', '""')}"`
}

export function literal(text: string): string {
  return `'${text.replaceAll("'", "''")}'`
}

export function tableName({ namespace, name }: DatasetName): string {
  return `${ident(namespace)}.${ident(name)}`
}

/**
 * The statements of one step of the plan. The key's columns are NOT NULL but make no PRIMARY KEY: its index would have to stay in
 * memory whole, and the engine keeps keys unique anyway (docs/decisions/0004).
 */
export function ddl(step: PrepareStep): string[] {
  if (step.step === 'create schema') return [`CREATE SCHEMA IF NOT EXISTS ${ident(step.schema)}`]
  if (step.step === 'alter table') return altered(step)
  if (step.step === 'empty table') return [emptiedBefore(step)]
  const columns = step.columns.map(({ name, nativeType, nullable }) => {
    const notNull = step.key.includes(name) || !nullable ? ' NOT NULL' : ''
    return `${ident(name)} ${nativeType}${notNull}`
  })
  const create = step.step === 'create table' ? 'CREATE TABLE' : 'CREATE OR REPLACE TABLE'
  return [`${create} ${tableName(step.table)} (\n  ${columns.join(',\n  ')}\n)`]
}

/** DuckDB alters one thing with each statement. */
function altered({ table, to, drops, renames, adds }: Alteration): string[] {
  const alter = `ALTER TABLE ${tableName(table)}`
  return [
    ...drops.map(name => `${alter} DROP COLUMN ${ident(name)}`),
    ...renames.map(({ from, to }) => `${alter} RENAME COLUMN ${ident(from)} TO ${ident(to)}`),
    ...adds.map(({ name, nativeType }) => `${alter} ADD COLUMN ${ident(name)} ${nativeType}`),
    ...(to ? [`${alter} RENAME TO ${ident(to.name)}`] : []),
  ]
}

function emptiedBefore({ table, part }: Extract<PrepareStep, { step: 'empty table' }>): string {
  if (!part) return `DELETE FROM ${tableName(table)}`
  return `DELETE FROM ${tableName(table)} WHERE ${ident(part.column)} IN (${part.values.map(literal).join(', ')})`
}

export const columnList = (columns: readonly Column[]) => columns.map(({ name }) => ident(name)).join(', ')

export const CHECKPOINTS = new CheckpointSql({
  table: `${STATE_SCHEMA}.checkpoint`,
  literal,
  time: iso => `${literal(iso)}::TIMESTAMPTZ`,
  isoTime: `strftime(complete_up_to AT TIME ZONE 'UTC', '%Y-%m-%dT%H:%M:%S.%fZ')`,
  now: 'now()',
})

/** The statement by which a lane's rows go. */
export function emptied({ table, part }: TargetLane): string {
  return `DELETE FROM ${tableName(table)}${ofPart(part)}`
}

/** Marks the rows of a lane that have nothing in this column. */
export function marked({ table, part }: TargetLane, column: string, value: string): string {
  const own = ofPart(part)
  return `UPDATE ${tableName(table)} SET ${ident(column)} = ${literal(value)}${own === '' ? ' WHERE' : `${own} AND`} ${ident(column)} IS NULL`
}

/** The condition for a lane's own rows. */
export function ofPart(part: TargetLane['part']): string {
  return part ? ` WHERE ${ident(part.column)} = ${literal(part.value)}` : ''
}

export const STATE_DDL = [
  `CREATE SCHEMA IF NOT EXISTS ${STATE_SCHEMA}`,
  `CREATE TABLE IF NOT EXISTS ${STATE_SCHEMA}.checkpoint (
     pipeline VARCHAR NOT NULL, epoch BIGINT NOT NULL, position VARCHAR NOT NULL,
     complete_up_to TIMESTAMPTZ NOT NULL, lanes VARCHAR NOT NULL, consistent BOOLEAN NOT NULL, written_at TIMESTAMPTZ NOT NULL)`,
]

interface Reading {
  /** The type the CSV reader gives the column. */
  csvType: string
  /** From that to the column's type at the target. */
  expression(column: string): string
}

const SELF = (column: string) => column

/** DuckDB writes years before 1 AD as `0044-03-15 (BC)`, canonical text as `0044-03-15 … BC`. */
const era = (column: string, type: string) =>
  `CAST(CASE WHEN suffix(${column}, ' BC') THEN regexp_replace(${column}, '^(\\S+)(.*) BC$', '\\1 (BC)\\2') ELSE ${column} END AS ${type})`

function reading(type: LogicalType, targetType: string): Reading {
  if (targetType === 'VARCHAR') return { csvType: 'VARCHAR', expression: SELF }
  switch (type.kind) {
    case 'date':
    case 'timestamp':
      return { csvType: 'VARCHAR', expression: column => era(column, targetType) }
    case 'binary':
      return { csvType: 'VARCHAR', expression: column => `unhex(substr(${column}, 3))` }
    case 'interval':
      // PostgreSQL writes a plus before the time when days are negative; DuckDB does not read it.
      return { csvType: 'VARCHAR', expression: column => `CAST(replace(${column}, ' +', ' ') AS INTERVAL)` }
    case 'json':
      return { csvType: 'VARCHAR', expression: column => `CAST(${column} AS JSON)` }
    case 'list':
      return { csvType: 'VARCHAR', expression: column => listExpression(column, type, targetType) }
    default:
      return { csvType: targetType, expression: SELF }
  }
}

/** From JSON (see `listTurn`), by way of lists of texts. */
function listExpression(column: string, type: LogicalType, targetType: string): string {
  const [, native, dimensions] = /^(.*?)((?:\[\])+)$/.exec(targetType)!
  const texts = `CAST(CAST(${column} AS JSON) AS VARCHAR${dimensions})`
  return native === 'VARCHAR' ? texts : elementwise(texts, type, targetType)
}

function elementwise(lists: string, type: LogicalType, targetType: string): string {
  if (type.kind !== 'list') {
    const { expression } = reading(type, targetType)
    return expression === SELF ? `CAST(${lists} AS ${targetType})` : expression(lists)
  }
  const inner = `x${targetType.length}`
  return `list_transform(${lists}, lambda ${inner}: ${elementwise(inner, type.of, targetType.slice(0, -2))})`
}

/** Where a CSV file's fields go: `read` is the table function call, `select` the typed expressions in column order. */
export interface CsvReading {
  read: string
  select: string[]
}

const CSV_OPTIONS = `auto_detect = false, delim = ',', quote = '"', escape = '"', nullstr = '', allow_quoted_nulls = false, new_line = '\\n'`
/** DuckDB's default. The reader takes a multiple of it in memory, so it is told of longer lines only where there are. */
const USUAL_LINE = 2_000_000

export interface CsvFile {
  file: string
  bytes: number
  longestLine: number
  /** Instead of the one: several, each with names in its first line. */
  named?: readonly string[]
}

/** Reads a file of `csvLine`s. With `asText` every field stays text, so that a bad one can be looked for, by one thread. */
export function readCsv(
  { file, bytes, longestLine, named }: CsvFile,
  columns: readonly Column[],
  asText = false,
): CsvReading {
  const readings = columns.map(column => reading(column.type, column.nativeType))
  const types = readings.map(({ csvType }, i) => `'c${i}': '${asText ? 'VARCHAR' : csvType}'`)
  const line = Math.max(USUAL_LINE, longestLine + 1)
  // What fits into one buffer, as most batches of changes do, gains nothing by several threads.
  const alone = asText || bytes < USUAL_LINE
  const from = named ? `[${named.map(literal).join(', ')}], hive_partitioning = false` : literal(file)
  return {
    read: `read_csv(${from}, header = ${named !== undefined}, columns = {${types.join(', ')}}, ${CSV_OPTIONS}, max_line_size = ${line}, buffer_size = ${line}${alone ? ', parallel = false' : ''})`,
    select: readings.map(({ expression, csvType }, i) =>
      asText && csvType !== 'VARCHAR' ? `CAST(c${i} AS ${columns[i]!.nativeType})` : expression(`c${i}`),
    ),
  }
}

/** A value in canonical text, such as a parameter, as one of the column's type. */
export function typedValue(text: string, type: LogicalType, targetType: string): string {
  const { csvType, expression } = reading(type, targetType)
  return csvType === 'VARCHAR' ? expression(text) : `CAST(${text} AS ${targetType})`
}

/** A column of the target as canonical text: the way back from `readCsv`. */
export function canonicalText(column: string, type: LogicalType, targetType: string): string {
  const text = `CAST(${column} AS VARCHAR)`
  if (targetType === 'VARCHAR') return column
  switch (type.kind) {
    case 'bool':
      return `CASE WHEN ${column} THEN 't' WHEN NOT ${column} THEN 'f' END`
    case 'decimal': {
      // Where all digits are behind the point, it writes no zero before it.
      const [, precision, scale] = /^DECIMAL\((\d+),(\d+)\)$/.exec(targetType) ?? []
      return precision !== scale ? text : `regexp_replace(${text}, '^(-?)\\.', '\\10.')`
    }
    case 'float':
      return `CASE WHEN NOT isfinite(${column}) THEN replace(replace(${text}, 'inf', 'Infinity'), 'nan', 'NaN')
        WHEN suffix(${text}, '.0') THEN left(${text}, -2) ELSE ${text} END`
    case 'date':
    case 'timestamp':
      return `CASE WHEN ${column} < CAST('0001-01-01' AS ${targetType})
        THEN regexp_replace(${text}, '^(\\S+) \\(BC\\)(.*)$', '\\1\\2 BC') ELSE ${text} END`
    case 'binary':
      return `'\\x' || lower(hex(${column}))`
    case 'list':
      return `CAST(to_json(${elementTexts(column, type, targetType)}) AS VARCHAR)`
    default:
      return text
  }
}

/** Lists of the elements' canonical texts, as deep as the column's. */
function elementTexts(lists: string, type: LogicalType, targetType: string): string {
  if (type.kind !== 'list') return canonicalText(lists, type, targetType)
  const inner = `x${targetType.length}`
  return `list_transform(${lists}, lambda ${inner}: ${elementTexts(inner, type.of, targetType.slice(0, -2))})`
}
