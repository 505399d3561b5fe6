/** How changes get into a table of MariaDB: into a stage beside it by LOAD DATA, and from there in one statement. */
import type { NetEffect, Put } from '@tide/core/apply/net-effect'
import type { LaneColumn } from '@tide/core/plan/plan'
import type { LogicalType } from '@tide/core/records/types'
import type { LaneEffect, TargetLane } from '../../contract.ts'
import { besideRow, csvParts, unsentColumns } from '../../staging.ts'
import { STATE_DATABASE } from '../catalogue.ts'
import type { Session } from '../client.ts'
import { ident, tableName } from '../sql.ts'
import { loadData } from './load-data.ts'

/** Statistics lag behind what was just copied, and a planner that takes the table for empty would read it whole for each row. */
const JOIN_BY_KEY = (table: string) => `STRAIGHT_JOIN ${table} t FORCE INDEX (PRIMARY)`

const TEXT = { type: { kind: 'utf8' } as LogicalType, targetType: 'text' }

let stages = 0

/** Merges within one transaction. MariaDB drops no temporary table at its end, so they are dropped after it. */
export class Merger {
  private readonly session: Session
  private readonly stages: string[] = []

  constructor(session: Session) {
    this.session = session
  }

  /** Truncate, then rows that go, then rows as they stand in the end. Returns the puts that it could not fill. */
  async apply({ lane, effect }: LaneEffect): Promise<Put[]> {
    const { truncate, removed, puts } = effect
    const table = tableName(lane.table)
    const keyColumns = lane.key.map(name => lane.columns.find(({ target }) => target === name)!)
    if (truncate) await this.session.run(`DELETE FROM ${table}`)
    const unsent = unsentColumns(puts)
    let unfilled: Put[] = []
    let stage = ''
    if (puts.length > 0) {
      stage = await this.stagePuts(lane, keyColumns, effect, unsent.length > 0)
      if (unsent.length > 0) unfilled = await this.fillUnsent(stage, lane, effect, unsent)
    }
    if (removed.length > 0 && !truncate) {
      const gone = await this.newStage(keyColumns.map(({ targetType }, i) => `k${i} ${targetType} NOT NULL`))
      const keys = keyColumns.map((_, i) => `k${i}`)
      await loadData(this.session, `INTO TABLE ${gone}`, keyColumns, keys, csvParts(removed))
      await this.session.run(`DELETE t FROM ${gone} s ${JOIN_BY_KEY(table)} ON ${matches(lane)}`)
    }
    if (puts.length === 0) return []
    const values = lane.columns.map((_, i) => `c${i}`).join(', ')
    const update = columnNames(lane)
      .map(name => `${name} = VALUES(${name})`)
      .join(', ')
    await this.session.run(
      `INSERT INTO ${table} (${columnNames(lane).join(', ')}) SELECT ${values} FROM ${stage} ON DUPLICATE KEY UPDATE ${update}`,
    )
    return unfilled
  }

  async dropStages(): Promise<void> {
    for (const stage of this.stages)
      await this.session.run(`DROP TEMPORARY TABLE IF EXISTS ${stage}`).catch(() => {})
  }

  /** The rows to put as `c0…`; where some values were not sent (`partial`), with what tells where they are. */
  private async stagePuts(
    lane: TargetLane,
    keyColumns: readonly LaneColumn[],
    { puts }: NetEffect,
    partial: boolean,
  ): Promise<string> {
    const defined = lane.columns.map(({ targetType }, i) => `c${i} ${targetType} NULL`)
    const columns: Pick<LaneColumn, 'type' | 'targetType'>[] = [...lane.columns]
    const targets = lane.columns.map((_, i) => `c${i}`)
    if (partial) {
      const keys = keyColumns.map(({ targetType }, i) => `k${i} ${targetType} NOT NULL`)
      defined.push('unsent text NULL', ...keys, 'n int NOT NULL PRIMARY KEY')
      columns.push(TEXT, ...keyColumns, TEXT)
      targets.push('unsent', ...keyColumns.map((_, i) => `k${i}`), 'n')
    }
    const stage = await this.newStage(defined)
    const rows = partial
      ? puts.map((put, n) => [...put.row, ...besideRow(put, n)])
      : puts.map(({ row }) => row)
    await loadData(this.session, `INTO TABLE ${stage}`, columns, targets, csvParts(rows))
    return stage
  }

  private async fillUnsent(
    stage: string,
    lane: TargetLane,
    { puts }: NetEffect,
    unsent: readonly number[],
  ): Promise<Put[]> {
    const set = unsent.map(
      i => `s.c${i} = IF(s.unsent LIKE '%,${i},%', t.${ident(lane.columns[i]!.target)}, s.c${i})`,
    )
    await this.session.run(
      `UPDATE ${stage} s ${JOIN_BY_KEY(tableName(lane.table))} ON ${matches(lane)} SET ${set.join(', ')}, s.unsent = 'filled' WHERE s.unsent IS NOT NULL`,
    )
    const missing = await this.session.arrays(`SELECT n FROM ${stage} WHERE unsent <> 'filled'`)
    if (missing.length > 0) await this.session.run(`DELETE FROM ${stage} WHERE unsent <> 'filled'`)
    return missing.map(([n]) => puts[Number(n)]!)
  }

  private async newStage(columns: readonly string[]): Promise<string> {
    const name = `${STATE_DATABASE}.stage_${process.pid}_${stages++}`
    await this.session.run(
      `CREATE TEMPORARY TABLE ${name} (${columns.join(', ')}) ENGINE = InnoDB DEFAULT CHARACTER SET utf8mb4`,
    )
    this.stages.push(name)
    return name
  }
}

export const columnNames = (lane: TargetLane) => lane.columns.map(({ target }) => ident(target))

/** That a row of the table (`t`) has the key of a staged one (`s`). */
const matches = (lane: TargetLane) => lane.key.map((name, i) => `t.${ident(name)} = s.k${i}`).join(' AND ')
