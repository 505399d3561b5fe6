/** The SQL of the PostgreSQL target. */
import type { LaneColumn, PrepareStep } from '@tide/core/plan/plan'
import type { TargetLane } from '../../contract.ts'
import { tableName } from '../catalogue.ts'
import { STATE_SCHEMA } from '../state.ts'
import { ident } from '../text.ts'

export const STATE_DDL = [
  `CREATE SCHEMA IF NOT EXISTS ${STATE_SCHEMA}`,
  `CREATE TABLE IF NOT EXISTS ${STATE_SCHEMA}.checkpoint (
     pipeline text PRIMARY KEY, epoch bigint NOT NULL, position text NOT NULL, complete_up_to timestamptz NOT NULL,
     lanes text NOT NULL, consistent boolean NOT NULL, written_at timestamptz NOT NULL)`,
]

/** One statement of the plan, or two where a table is replaced. */
export function ddl(step: PrepareStep): string[] {
  if (step.step === 'create schema') return [`CREATE SCHEMA IF NOT EXISTS ${ident(step.schema)}`]
  const columns = step.columns.map(
    ({ target, targetType, nullable }) => `${ident(target)} ${targetType}${nullable ? '' : ' NOT NULL'}`,
  )
  const key = `PRIMARY KEY (${step.key.map(ident).join(', ')})`
  const create = `CREATE TABLE ${tableName(step.table)} (\n  ${[...columns, key].join(',\n  ')}\n)`
  return step.step === 'create table' ? [create] : [`DROP TABLE IF EXISTS ${tableName(step.table)}`, create]
}

export const columnList = (columns: readonly LaneColumn[]) =>
  columns.map(({ target }) => ident(target)).join(', ')

/** Puts staged rows in, in the place of those with the same key. The table has an alias, for its name may be `excluded`. */
export function upsert(lane: TargetLane, stage: string): string {
  const others = lane.columns.filter(({ target }) => !lane.key.includes(target))
  const set = others.map(({ target }) => `${ident(target)} = excluded.${ident(target)}`).join(', ')
  return `INSERT INTO ${tableName(lane.table)} AS t (${columnList(lane.columns)}) SELECT ${columnList(lane.columns)} FROM ${stage}
    ON CONFLICT (${lane.key.map(ident).join(', ')}) DO ${others.length > 0 ? `UPDATE SET ${set}` : 'NOTHING'}`
}
