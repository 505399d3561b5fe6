/** The tables that a reader of the change table was entered for: what they are called, and what became of them since. */
import { Failure } from '@tide/core/failure'
import { datasetId, printName, type DatasetName } from '@tide/core/records/dataset'
import { ALTERED, type LoggedRelation } from '@tide/core/records/relation'
import type { Pool } from 'pg'
import { CAPTURE_SCHEMA, tableName } from '../catalogue.ts'
import { ident } from '../text.ts'
import { SHAPE } from './capture.ts'
import { LARGEST_ROW_BYTES } from './listing.ts'

const S = CAPTURE_SCHEMA

const WATCHED = `
SELECT f.seen::text AS seen, (SELECT id::text FROM ${S}.installation) AS installation,
       r.oid::text AS oid, f.shapes[r.ordinal] AS shape, (${SHAPE}) AS now, n.nspname AS namespace, c.relname AS name,
       EXISTS (SELECT FROM pg_catalog.pg_trigger t
                WHERE t.tgrelid = r.oid AND t.tgname = '!constant_tide_row' AND t.tgenabled IN ('O', 'A')) AS guarded,
       (SELECT json_agg(json_build_object('name', a.attname, 'nativeType', pg_catalog.format_type(a.atttypid, a.atttypmod)) ORDER BY a.attnum)
          FROM pg_catalog.pg_attribute a WHERE a.attrelid = r.oid AND a.attnum > 0 AND NOT a.attisdropped)::text AS columns
  FROM ${S}.follower f
  LEFT JOIN unnest(f.relations) WITH ORDINALITY r(oid, ordinal) ON true
  LEFT JOIN pg_catalog.pg_class c ON c.oid = r.oid
  LEFT JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
 WHERE f.id = $1`

export interface Watched {
  oid: string
  /** Its name now; undefined when it was dropped. */
  dataset: DatasetName | undefined
  columns: LoggedRelation['columns']
  /** Its columns are not those that it was entered with. */
  altered: boolean
  /** Our trigger stands on it. */
  guarded: boolean
}

export interface Capture {
  /** Up to where the reader needs nothing any more. */
  seen: string
  installation: string
  tables: Watched[]
}

/** Throws when the capture, or the reader's place in it, is gone. */
export async function lookAtCapture(pool: Pool, reader: string): Promise<Capture> {
  const { rows } = await pool.query(WATCHED, [reader]).catch(error => {
    if (['42P01', '3F000'].includes(error.code)) return { rows: [] }
    throw error
  })
  const [first] = rows
  if (!first?.installation) throw captureGone()
  const tables = rows
    .filter(({ oid }) => oid !== null)
    .map(({ oid, shape, now, namespace, name, guarded, columns }): Watched => ({
      oid,
      dataset: name === null ? undefined : { namespace, name },
      columns: JSON.parse(columns ?? '[]'),
      altered: shape !== now,
      guarded: guarded === 't',
    }))
  return { seen: first.seen, installation: first.installation, tables }
}

/** Fails when changes of some table are not captured any more. */
export function refuseUnwatched({ tables }: Capture, wanted: readonly DatasetName[]): void {
  for (const dataset of wanted) {
    const found = tables.find(one => one.dataset && datasetId(one.dataset) === datasetId(dataset))
    if (found?.guarded) continue
    throw new Failure(
      'structural',
      found
        ? `The capture trigger of ${printName(dataset)} was dropped or disabled at the source; its changes since then are not known.`
        : `The table ${printName(dataset)} was dropped, renamed or made anew at the source.`,
      found
        ? 'Start again: the trigger is put back and the table copied anew.'
        : 'Leave it out in the setup, or create it again, and start again: the tables are copied anew.',
    )
  }
}

/** The table as the log describes it, under the name it is followed by. */
export function describe({ oid, dataset, columns, altered }: Watched, followed: DatasetName): LoggedRelation {
  const there = dataset && datasetId(dataset) === datasetId(followed)
  return {
    id: Number(oid),
    dataset: followed,
    columns: there ? columns.map(one => (altered ? { ...one, nativeType: ALTERED } : one)) : [],
  }
}

const KEY = `
SELECT a.attname FROM pg_catalog.pg_index i JOIN pg_catalog.pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = ANY (i.indkey::int2[])
 WHERE i.indrelid = $1::oid AND i.indisprimary`

/** Which value of a change it is that cannot be read. */
export async function tooLarge(
  pool: Pool,
  { oid, dataset, columns }: Watched,
  seq: string,
): Promise<Failure> {
  const key = (await pool.query(KEY, [oid])).rows.map(row => row.attname as string)
  const value = (name: string) => `(r.row).${ident(name)}::text`
  const result = await pool.query({
    text: `SELECT ${[
      ...key.map(name => `left(${value(name)}, 60)`),
      ...columns.map(({ name }) => `octet_length(${value(name)})::text`),
    ].join(', ')}
        FROM (SELECT coalesce(after, before)::${tableName(dataset!)} AS row FROM ${S}.change WHERE seq = $1::bigint) r`,
    values: [seq],
    rowMode: 'array',
  })
  const found = result.rows[0] as string[]
  const [told, sizes] = [found.slice(0, key.length), found.slice(key.length).map(Number)]
  const largest = sizes.indexOf(Math.max(...sizes))
  return new Failure(
    'value',
    `${printName(dataset!)}.${columns[largest]!.name}: a value of ${Math.round(sizes[largest]! / 2 ** 20)} MB is larger than can be carried (${LARGEST_ROW_BYTES / 2 ** 20} MB a row), in the row with ${key.map((name, i) => `${name} ${told[i]}`).join(', ')}.`,
    'Make the value smaller at the source, and start again: the tables are copied anew.',
  )
}

/** Also when it goes between two looks: then the change table itself is missing. */
export function captureGone(): Failure {
  return new Failure(
    'structural',
    'The change capture at the source is gone or was put there anew; changes since then are not known.',
    'Was the source restored or replaced? Start again: the tables are copied anew.',
  )
}
