/** How changes get into a table of MariaDB: into a stage beside it by LOAD DATA, and from there in one statement. */
import type { Put } from '@tide/core/apply/net-effect'
import type { Column } from '@tide/core/records/column'
import type { LogicalType } from '@tide/core/records/types'
import type { Key } from '@tide/core/records/value'
import type { TargetLane } from '../../contract/target.ts'
import type { MergeSteps } from '../../merge.ts'
import { keyParts, putParts } from '../../staging.ts'
import type { Session } from '../client.ts'
import { ident, tableName } from '../sql.ts'
import { loadData } from './load-data.ts'
import { columnNames, emptied, marked } from './sql.ts'
import type { Stages } from './stages.ts'

/** Statistics lag behind what was just copied, and a planner that takes the table for empty would read it whole for each row. */
const JOIN_BY_KEY = (table: string) => `STRAIGHT_JOIN ${table} t FORCE INDEX (PRIMARY)`

const TEXT = { type: { kind: 'utf8' } as LogicalType, nativeType: 'text' }

export class MariadbMerge implements MergeSteps {
  private readonly session: Session
  private readonly stages: Stages
  private readonly lane: TargetLane
  private readonly keyColumns: readonly Column[]
  private staged = ''

  constructor(session: Session, stages: Stages, lane: TargetLane) {
    this.session = session
    this.stages = stages
    this.lane = lane
    this.keyColumns = lane.key.map(name => lane.columns.find(column => column.name === name)!)
  }

  async empty(): Promise<void> {
    await this.session.run(emptied(this.lane))
  }

  async markAll(column: string, value: string): Promise<void> {
    await this.session.run(marked(this.lane, column, value))
  }

  async append(puts: readonly Put[]): Promise<void> {
    const { session, lane } = this
    const into = `INTO TABLE ${tableName(lane.table)}`
    await loadData(session, into, lane.columns, columnNames(lane), putParts(puts))
  }

  /** The rows to put as `c0…`; where some values were not sent (`partial`), with what tells where they are. */
  async stage(puts: readonly Put[], partial: boolean): Promise<void> {
    const { lane, keyColumns } = this
    const defined = lane.columns.map(({ nativeType }, i) => `c${i} ${nativeType} NULL`)
    const columns: Pick<Column, 'type' | 'nativeType'>[] = [...lane.columns]
    const targets = lane.columns.map((_, i) => `c${i}`)
    if (partial) {
      defined.push('unsent text NULL', ...this.keyDefinitions, 'n int NOT NULL PRIMARY KEY')
      columns.push(TEXT, ...keyColumns, TEXT)
      targets.push('unsent', ...keyColumns.map((_, i) => `k${i}`), 'n')
    }
    this.staged = await this.stages.make(defined)
    await loadData(this.session, `INTO TABLE ${this.staged}`, columns, targets, putParts(puts, partial))
  }

  async fill(puts: readonly Put[], unsent: readonly number[]): Promise<Put[]> {
    const { lane, staged, session } = this
    const set = unsent.map(
      i => `s.c${i} = IF(s.unsent LIKE '%,${i},%', t.${ident(lane.columns[i]!.name)}, s.c${i})`,
    )
    await session.run(
      `UPDATE ${staged} s ${JOIN_BY_KEY(tableName(lane.table))} ON ${this.matches} SET ${set.join(', ')}, s.unsent = 'filled' WHERE s.unsent IS NOT NULL`,
    )
    const missing = await session.arrays(`SELECT n FROM ${staged} WHERE unsent <> 'filled'`)
    if (missing.length > 0) await session.run(`DELETE FROM ${staged} WHERE unsent <> 'filled'`)
    return missing.map(([n]) => puts[Number(n)]!)
  }

  async remove(keys: readonly Key[]): Promise<void> {
    const gone = await this.stages.make(this.keyDefinitions)
    const names = this.keyColumns.map((_, i) => `k${i}`)
    await loadData(this.session, `INTO TABLE ${gone}`, this.keyColumns, names, keyParts(keys))
    await this.session.run(
      `DELETE t FROM ${gone} s ${JOIN_BY_KEY(tableName(this.lane.table))} ON ${this.matches}`,
    )
  }

  async put(): Promise<void> {
    const { lane } = this
    const values = lane.columns.map((_, i) => `c${i}`).join(', ')
    const update = columnNames(lane)
      .map(name => `${name} = VALUES(${name})`)
      .join(', ')
    await this.session.run(
      `INSERT INTO ${tableName(lane.table)} (${columnNames(lane).join(', ')}) SELECT ${values} FROM ${this.staged} ON DUPLICATE KEY UPDATE ${update}`,
    )
  }

  private get keyDefinitions(): string[] {
    return this.keyColumns.map(({ nativeType }, i) => `k${i} ${nativeType} NOT NULL`)
  }

  /** That a row of the table (`t`) has the key of a staged one (`s`). */
  private get matches(): string {
    return this.lane.key.map((name, i) => `t.${ident(name)} = s.k${i}`).join(' AND ')
  }
}
