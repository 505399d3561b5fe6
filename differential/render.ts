/**
 * Values as both sides' own SQL prints them, in forms that can be compared. Written from the systems' documentation, and
 * with nothing of what carries the values.
 */
import type { Column } from '@tide/core/records/column'
import type { Family, TypeSpec } from './types.ts'

export type SystemKind = 'postgres' | 'mariadb' | 'duckdb'
/** What is followed into; of change files and merged tables in a folder DuckDB makes tables. */
export type TargetName = SystemKind | 'folder' | 'merged'

export const isInFiles = (target: TargetName) => target === 'folder' || target === 'merged'

export const renderedBy = (target: TargetName): SystemKind =>
  target === 'folder' || target === 'merged' ? 'duckdb' : target

/** How a column is printed at the source and at the target, and what of the printed texts is compared. */
export interface Rendering {
  source: string
  target: string
  normal(text: string): unknown
}

const same = (text: string): unknown => text
const float64 = (text: string): unknown => (Number(text) === 0 ? 0 : Number(text))
const float32 = (text: string): unknown => (Number(text) === 0 ? 0 : Math.fround(Number(text)))
/** DuckDB writes no zero before the point where all digits are behind it. */
const withZero = (text: string): unknown => text.replace(/^(-?)\./, '$10.')
/** Zeros at the end of a second's parts say nothing. */
const withoutZeros = (text: string): unknown => text.replace(/(\.\d*?)0+$/, '$1').replace(/\.$/, '')

/** Text as the hexadecimal digits of its UTF-8. */
export const HEX: Record<SystemKind, (column: string) => string> = {
  postgres: column => `encode(convert_to(${column}, 'UTF8'), 'hex')`,
  mariadb: column => `LOWER(HEX(CONVERT(${column} USING utf8mb4)))`,
  duckdb: column => `lower(hex(encode(${column})))`,
}

export function renderingOf(
  from: 'postgres' | 'mariadb',
  to: SystemKind,
  spec: TypeSpec,
  sourceColumn: string,
  { nativeType: targetType }: Column,
  targetColumn: string,
): Rendering {
  if (from === 'postgres') return ofPostgres(to, spec, sourceColumn, targetType, targetColumn)
  return ofMariadb(to, spec, sourceColumn, targetType, targetColumn)
}

/** What the output function of the type gives. */
const printed = (column: string) =>
  `CASE WHEN ${column} IS DISTINCT FROM NULL THEN encode(convert_to(format('%s', ${column}), 'UTF8'), 'hex') END`

function ofPostgres(
  to: SystemKind,
  spec: TypeSpec,
  source: string,
  targetType: string,
  target: string,
): Rendering {
  if (to === 'postgres') {
    const there = targetType === 'text' ? HEX.postgres(target) : printed(target)
    const here = spec.family === 'padded' ? `encode(bpcharsend(${source}), 'hex')` : printed(source)
    return {
      source: here,
      target: spec.family === 'padded' ? `encode(bpcharsend(${target}::bpchar), 'hex')` : there,
      normal: same,
    }
  }
  if (spec.family === 'list') return listOfPostgres(to, spec, source, targetType, target)
  if (/^(VARCHAR|JSON|longtext|varchar)/.test(targetType)) {
    const here = spec.family === 'padded' ? `encode(bpcharsend(${source}), 'hex')` : printed(source)
    return { source: here, target: HEX[to](to === 'duckdb' ? `${target}::VARCHAR` : target), normal: same }
  }
  const [here, there, normal] = scalar(to, spec.family)
  return { source: here(source), target: there(target), normal }
}

type Text = (column: string) => string
const iso = `'YYYY-MM-DD HH24:MI:SS.US BC'`

/** Printed by PostgreSQL, printed by the target's typed column, and what is compared. */
function scalar(to: 'duckdb' | 'mariadb', family: Family): [Text, Text, (text: string) => unknown] {
  const duck = to === 'duckdb'
  const text: Text = duck ? column => `${column}::VARCHAR` : column => `CAST(${column} AS CHAR)`
  switch (family) {
    case 'bool':
      return [column => `${column}::int::text`, duck ? column => `${column}::INTEGER::VARCHAR` : text, same]
    case 'number':
      return [column => `${column}::text`, text, withZero]
    case 'float32':
      return [
        column => `${column}::text`,
        duck ? text : column => `CAST(${column} + 0e0 AS CHAR)`,
        withNames(float32),
      ]
    case 'float64':
      return [column => `${column}::text`, text, withNames(float64)]
    case 'binary':
      return [column => `encode(${column}, 'hex')`, column => `lower(hex(${column}))`, same]
    case 'uuid':
      return [column => `${column}::text`, column => `lower(${text(column)})`, same]
    case 'date':
      return [
        // Beyond the last timestamp, to_char fails.
        column =>
          `CASE WHEN ${column} BETWEEN date '294276-01-01' AND date '5874897-12-31' THEN ${column}::text || ' AD'
                WHEN isfinite(${column}) THEN to_char(${column}, 'YYYY-MM-DD BC') ELSE ${column}::text END`,
        duck
          ? column =>
              `CASE WHEN isfinite(${column}) THEN ${duckDate(column, '%m-%d')} ELSE ${column}::VARCHAR END`
          : column =>
              `CONCAT(LPAD(CAST(YEAR(${column}) AS CHAR), 4, '0'), DATE_FORMAT(${column}, '-%m-%d AD'))`,
        same,
      ]
    case 'timestamp':
    case 'timestamptz': {
      const utc: Text =
        family === 'timestamptz' ? column => `(${column} AT TIME ZONE 'UTC')` : column => column
      return [
        column =>
          `CASE WHEN isfinite(${column}) THEN to_char(${utc(column)}, ${iso}) ELSE ${column}::text END`,
        duck
          ? column =>
              `CASE WHEN isfinite(${column}) THEN ${duckDate(utc(column), '%m-%d %H:%M:%S.%f')} ELSE ${column}::VARCHAR END`
          : column =>
              `CONCAT(LPAD(CAST(YEAR(${column}) AS CHAR), 4, '0'), DATE_FORMAT(${column}, '-%m-%d %H:%i:%s.%f AD'))`,
        same,
      ]
    }
    case 'time':
      return [
        column => `(extract(epoch FROM ${column}) * 1000000)::bigint::text`,
        column =>
          `(extract(hour FROM ${column}) * 3600000000 + extract(minute FROM ${column}) * 60000000 + extract(microsecond FROM ${column}))::VARCHAR`,
        same,
      ]
    case 'interval':
      return [
        column =>
          `concat_ws(' ', extract(year FROM ${column}) * 12 + extract(month FROM ${column}), extract(day FROM ${column}),
             (extract(hour FROM ${column}) * 3600000000 + extract(minute FROM ${column}) * 60000000 + extract(microsecond FROM ${column}))::bigint)`,
        column =>
          `concat_ws(' ', extract(year FROM ${column}) * 12 + extract(month FROM ${column}), extract(day FROM ${column}),
             extract(hour FROM ${column}) * 3600000000 + extract(minute FROM ${column}) * 60000000 + extract(microsecond FROM ${column}))`,
        same,
      ]
    default:
      return [printed, HEX[to], same]
  }
}

/** PostgreSQL and DuckDB count years before 1 AD differently; both say which era it is. */
const duckDate = (column: string, rest: string) =>
  `(printf('%04d', CASE WHEN year(${column}) > 0 THEN year(${column}) ELSE 1 - year(${column}) END) || strftime(${column}, '-${rest}')
    || CASE WHEN year(${column}) > 0 THEN ' AD' ELSE ' BC' END)`

const withNames = (number: (text: string) => unknown) => (text: string) => {
  const plain = text.toLowerCase().replace('infinity', 'inf')
  return /^-?(nan|inf)$/.test(plain) ? plain : number(text)
}

/** Elements in order with the lengths of the dimensions; elements as their texts or, where the target has their type, rendered. */
function listOfPostgres(
  to: 'duckdb' | 'mariadb',
  spec: TypeSpec,
  source: string,
  targetType: string,
  target: string,
): Rendering {
  const lengths = `array_remove(ARRAY[array_length(${source}, 1), array_length(${source}, 2)], NULL)`
  // Of composites, unnest would give the fields.
  const asTexts = spec.sql.startsWith('"Spot"')
  const elements = (text: Text) =>
    `CASE WHEN ${source} IS NOT NULL THEN json_build_array(to_json(${lengths}), (SELECT coalesce(json_agg(${text('x')} ORDER BY i), '[]') FROM unnest(${asTexts ? `${source}::text[]` : source}) WITH ORDINALITY AS u(x, i)))::text END`
  const hexed: Text = column =>
    spec.element === 'padded' ? `encode(bpcharsend(${column}), 'hex')` : printed(column)
  if (to === 'mariadb') {
    // The order of the elements in the array is known here, so that both texts become one form.
    return {
      source: elements(hexed),
      target: HEX.mariadb(target),
      normal: text =>
        text.startsWith('[[') && !/^[0-9a-f]*$/.test(text)
          ? text.replaceAll(' ', '')
          : flattened(Buffer.from(text, 'hex').toString()),
    }
  }
  const native = targetType.replace(/(\[\])+$/, '')
  const nested = targetType.endsWith('[][]')
  const flat = nested ? `flatten(${target})` : target
  const dims = nested
    ? `CASE WHEN len(${target}) = 0 THEN []::BIGINT[] ELSE [len(${target}), len(${target}[1])] END`
    : `CASE WHEN len(${target}) = 0 THEN []::BIGINT[] ELSE [len(${target})] END`
  const [here, there, normal] =
    native === 'VARCHAR' || native === 'JSON'
      ? [hexed, (column: string) => HEX.duckdb(`${column}::VARCHAR`), same]
      : scalar('duckdb', spec.element!)
  return {
    source: elements(here),
    target: `CASE WHEN ${target} IS NOT NULL THEN json_array(${dims}, list_transform(${flat}, lambda x: ${there('x')}))::VARCHAR END`,
    normal: text => {
      const [lengths, items] = JSON.parse(text) as [unknown, (string | null)[]]
      return JSON.stringify([lengths, items.map(item => (item === null ? null : normal(String(item))))])
    },
  }
}

/** A JSON array of texts as the lengths of its dimensions and its elements in hexadecimal digits. */
function flattened(json: string): string {
  const list = JSON.parse(json) as unknown[]
  const lengths: number[] = []
  for (let at: unknown = list; Array.isArray(at) && at.length > 0; at = at[0]) lengths.push(at.length)
  const items = list.flat(9) as (string | null)[]
  return JSON.stringify([
    lengths,
    items.map(item => (item === null ? null : Buffer.from(item).toString('hex'))),
  ])
}

function ofMariadb(
  to: SystemKind,
  spec: TypeSpec,
  source: string,
  targetType: string,
  target: string,
): Rendering {
  if (to === 'mariadb') {
    const raw = (column: string) => {
      if (spec.family === 'float32' || spec.family === 'float64') return `CAST(${column} + 0e0 AS CHAR)`
      return ['number', 'date', 'time', 'timestamp', 'timestamptz', 'uuid'].includes(spec.family)
        ? `CAST(${column} + 0 AS CHAR)`
        : `HEX(${column})`
    }
    return spec.family === 'uuid'
      ? { source: `CAST(${source} AS CHAR)`, target: `CAST(${target} AS CHAR)`, normal: same }
      : { source: raw(source), target: raw(target), normal: same }
  }
  const duck = to === 'duckdb'
  const text: Text = duck ? column => `${column}::VARCHAR` : column => `${column}::text`
  const plain: Text = column => `CAST(${column} AS CHAR)`
  const stamp: Text = duck
    ? column => `(printf('%04d', year(${column})) || strftime(${column}, '-%m-%d %H:%M:%S.%f'))`
    : column => `to_char(${column}, 'YYYY-MM-DD HH24:MI:SS.US')`
  switch (spec.family) {
    case 'number':
      return { source: `CAST(${source} + 0 AS CHAR)`, target: text(target), normal: withZero }
    case 'float32':
      return { source: `CAST(${source} + 0e0 AS CHAR)`, target: text(target), normal: float32 }
    case 'float64':
      return { source: plain(source), target: text(target), normal: float64 }
    case 'binary':
      return {
        source: `LOWER(HEX(${source}))`,
        target: duck ? `lower(hex(${target}))` : `encode(${target}, 'hex')`,
        normal: same,
      }
    case 'date':
      return {
        source: `DATE_FORMAT(${source}, '%Y-%m-%d')`,
        target: duck ? `strftime(${target}, '%Y-%m-%d')` : `to_char(${target}, 'YYYY-MM-DD')`,
        normal: same,
      }
    case 'timestamp':
    case 'timestamptz': {
      const utc =
        spec.family === 'timestamptz' && /TZ$|with time zone/.test(targetType)
          ? `(${target} AT TIME ZONE 'UTC')`
          : target
      return { source: `DATE_FORMAT(${source}, '%Y-%m-%d %H:%i:%s.%f')`, target: stamp(utc), normal: same }
    }
    case 'time':
      return { source: plain(source), target: text(target), normal: withoutZeros }
    case 'uuid':
      return { source: plain(source), target: text(target), normal: same }
    default:
      return { source: HEX.mariadb(source), target: HEX[to](target), normal: same }
  }
}
