/** The SQL of the PostgreSQL target. */
import type { Column } from '@tide/core/records/column'
import type { Alteration } from '@tide/core/plan/alteration'
import type { PrepareStep } from '@tide/core/plan/steps'
import type { TargetLane } from '../../contract/target.ts'
import { CheckpointSql } from '../../checkpoint.ts'
import { tableName } from '../catalogue.ts'
import { STATE_SCHEMA } from '../state.ts'
import { ident, literal } from '../text.ts'

export const CHECKPOINTS = new CheckpointSql({
  table: `${STATE_SCHEMA}.checkpoint`,
  literal,
  time: iso => `${literal(iso)}::timestamptz`,
  isoTime: `to_char(complete_up_to AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"')`,
  now: 'now()',
})

export const STATE_DDL = [
  `CREATE SCHEMA IF NOT EXISTS ${STATE_SCHEMA}`,
  `CREATE TABLE IF NOT EXISTS ${STATE_SCHEMA}.checkpoint (
     pipeline text PRIMARY KEY, epoch bigint NOT NULL, position text NOT NULL, complete_up_to timestamptz NOT NULL,
     lanes text NOT NULL, consistent boolean NOT NULL, written_at timestamptz NOT NULL)`,
]

/** The statements of one step of the plan. */
export function ddl(step: PrepareStep): string[] {
  if (step.step === 'create schema') return [`CREATE SCHEMA IF NOT EXISTS ${ident(step.schema)}`]
  if (step.step === 'alter table') return altered(step)
  if (step.step === 'empty table') return [emptiedBefore(step)]
  const columns = step.columns.map(
    ({ name, nativeType, nullable }) => `${ident(name)} ${nativeType}${nullable ? '' : ' NOT NULL'}`,
  )
  const key = step.key.length > 0 ? [`PRIMARY KEY (${step.key.map(ident).join(', ')})`] : []
  const create = `CREATE TABLE ${tableName(step.table)} (\n  ${[...columns, ...key].join(',\n  ')}\n)`
  return step.step === 'create table' ? [create] : [`DROP TABLE IF EXISTS ${tableName(step.table)}`, create]
}

function altered({ table, to, drops, renames, adds }: Alteration): string[] {
  const alter = `ALTER TABLE ${tableName(table)}`
  const columns = [
    ...drops.map(name => `DROP COLUMN ${ident(name)}`),
    ...adds.map(({ name, nativeType }) => `ADD COLUMN ${ident(name)} ${nativeType}`),
  ]
  return [
    ...renames.map(({ from, to }) => `${alter} RENAME COLUMN ${ident(from)} TO ${ident(to)}`),
    ...(columns.length > 0 ? [`${alter} ${columns.join(', ')}`] : []),
    ...(to ? [`${alter} RENAME TO ${ident(to.name)}`] : []),
  ]
}

function emptiedBefore({ table, part }: Extract<PrepareStep, { step: 'empty table' }>): string {
  if (!part) return `TRUNCATE ${tableName(table)}`
  return `DELETE FROM ${tableName(table)} WHERE ${ident(part.column)} IN (${part.values.map(literal).join(', ')})`
}

export const columnList = (columns: readonly Column[]) => columns.map(({ name }) => ident(name)).join(', ')

/** The statement by which a lane's rows go. */
export function emptied({ table, part }: TargetLane): string {
  return part ? `DELETE FROM ${tableName(table)}${ofPart(part)}` : `TRUNCATE ${tableName(table)}`
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

/** Puts staged rows in, in the place of those with the same key. The table has an alias, for its name may be `excluded`. */
export function upsert(lane: TargetLane, stage: string): string {
  const others = lane.columns.filter(({ name }) => !lane.key.includes(name))
  const set = others.map(({ name }) => `${ident(name)} = excluded.${ident(name)}`).join(', ')
  return `INSERT INTO ${tableName(lane.table)} AS t (${columnList(lane.columns)}) SELECT ${columnList(lane.columns)} FROM ${stage}
    ON CONFLICT (${lane.key.map(ident).join(', ')}) DO ${others.length > 0 ? `UPDATE SET ${set}` : 'NOTHING'}`
}
