/** The SQL of the MariaDB target. */
import type { Alteration } from '@tide/core/plan/alteration'
import type { PrepareStep } from '@tide/core/plan/steps'
import { CheckpointSql } from '../../checkpoint.ts'
import type { TargetLane } from '../../contract/target.ts'
import { STATE_DATABASE } from '../catalogue.ts'
import { ident, literal, tableName } from '../sql.ts'

const STATE_TABLE = `${STATE_DATABASE}.checkpoint`

export const STATE_DDL = [
  `CREATE DATABASE IF NOT EXISTS ${STATE_DATABASE} CHARACTER SET utf8mb4`,
  `CREATE TABLE IF NOT EXISTS ${STATE_TABLE} (
     pipeline varchar(100) PRIMARY KEY, epoch bigint NOT NULL, position text NOT NULL, complete_up_to datetime(6) NOT NULL,
     lanes longtext NOT NULL, consistent boolean NOT NULL, written_at datetime(6) NOT NULL) ENGINE = InnoDB`,
]

export const CHECKPOINTS = new CheckpointSql({
  table: STATE_TABLE,
  literal,
  time: iso => literal(iso.replace('T', ' ').replace('Z', '')),
  isoTime: `date_format(complete_up_to, '%Y-%m-%dT%H:%i:%s.%fZ')`,
  now: 'now(6)',
})

/** The statements of one step of the plan. */
export function ddl(step: PrepareStep): string[] {
  if (step.step === 'create schema')
    return [`CREATE DATABASE IF NOT EXISTS ${ident(step.schema)} CHARACTER SET utf8mb4`]
  if (step.step === 'alter table') return altered(step)
  if (step.step === 'empty table') return [emptiedBefore(step)]
  const columns = step.columns.map(
    ({ name, nativeType, nullable }) =>
      `${ident(name)} ${nativeType} ${nullable && !step.key.includes(name) ? 'NULL' : 'NOT NULL'}`,
  )
  const key = step.key.length > 0 ? [`PRIMARY KEY (${step.key.map(ident).join(', ')})`] : []
  const create = `CREATE TABLE ${tableName(step.table)} (\n  ${[...columns, ...key].join(',\n  ')}\n) ENGINE = InnoDB`
  return step.step === 'create table' ? [create] : [`DROP TABLE IF EXISTS ${tableName(step.table)}`, create]
}

/** Each statement commits by itself, and does nothing where it was done before. */
function altered({ table, to, drops, renames, adds }: Alteration): string[] {
  const columns = [
    ...drops.map(name => `DROP COLUMN IF EXISTS ${ident(name)}`),
    ...renames.map(({ from, to }) => `RENAME COLUMN IF EXISTS ${ident(from)} TO ${ident(to)}`),
    ...adds.map(({ name, nativeType }) => `ADD COLUMN IF NOT EXISTS ${ident(name)} ${nativeType} NULL`),
  ]
  return [
    ...(columns.length > 0 ? [`ALTER TABLE IF EXISTS ${tableName(table)} ${columns.join(', ')}`] : []),
    ...(to ? [`RENAME TABLE IF EXISTS ${tableName(table)} TO ${tableName(to)}`] : []),
  ]
}

function emptiedBefore({ table, part }: Extract<PrepareStep, { step: 'empty table' }>): string {
  if (!part) return `DELETE FROM ${tableName(table)}`
  return `DELETE FROM ${tableName(table)} WHERE ${ident(part.column)} IN (${part.values.map(literal).join(', ')})`
}

export const columnNames = (lane: TargetLane) => lane.columns.map(({ name }) => ident(name))

/** The statement by which a lane's rows go; TRUNCATE would commit by itself. */
export function emptied({ table, part }: TargetLane): string {
  return `DELETE FROM ${tableName(table)}${ofPart(part)}`
}

/** Marks the rows of a lane that have nothing in this column; times there are in UTC and without a zone. */
export function marked({ table, part }: TargetLane, column: string, value: string): string {
  const own = ofPart(part)
  return `UPDATE ${tableName(table)} SET ${ident(column)} = ${literal(value.replace(/\+00$/, ''))}${own === '' ? ' WHERE' : `${own} AND`} ${ident(column)} IS NULL`
}

/** The condition for a lane's own rows. */
export function ofPart(part: TargetLane['part']): string {
  return part ? ` WHERE ${ident(part.column)} = ${literal(part.value)}` : ''
}
