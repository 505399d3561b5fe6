/** How changes get into a table of DuckDB: staged from CSV files, then deleted and inserted, which is what it does best. */
import type { Put } from '@tide/core/apply/net-effect'
import type { Column } from '@tide/core/records/column'
import type { Key } from '@tide/core/records/value'
import type { TargetLane } from '../contract/target.ts'
import type { MergeSteps } from '../merge.ts'
import { keyParts, putParts } from '../staging.ts'
import type { HostValue } from './host.ts'
import { columnList, emptied, ident, marked, tableName } from './sql.ts'

/** Temporary tables of a batch; kept no longer than it, since their rows stay in memory. */
export const STAGES = ['puts', 'removed', 'kept']

export interface MergeConnection {
  run(sql: string): Promise<unknown>
  ask(sql: string): Promise<HostValue[][]>
  /** Puts rows as CSV into the lane's table. */
  append(csv: Iterable<Uint8Array>): Promise<void>
  /** Makes a temporary table of rows as CSV. */
  stage(
    name: string,
    columns: readonly Column[],
    names: readonly string[],
    csv: Iterable<Uint8Array>,
  ): Promise<void>
}

export class DuckdbMerge implements MergeSteps {
  private readonly lane: TargetLane
  private readonly connection: MergeConnection
  private readonly keyColumns: readonly Column[]
  private readonly keys: readonly string[]
  private readonly names: readonly string[]
  private unsent: readonly number[] = []

  constructor(lane: TargetLane, connection: MergeConnection) {
    this.lane = lane
    this.connection = connection
    this.keyColumns = lane.key.map(name => lane.columns.find(column => column.name === name)!)
    this.keys = this.keyColumns.map((_, i) => `k${i}`)
    this.names = lane.columns.map((_, i) => `c${i}`)
  }

  async empty(): Promise<void> {
    await this.connection.run(emptied(this.lane))
  }

  async markAll(column: string, value: string): Promise<void> {
    await this.connection.run(marked(this.lane, column, value))
  }

  append(puts: readonly Put[]): Promise<void> {
    return this.connection.append(putParts(puts))
  }

  stage(puts: readonly Put[], partial: boolean): Promise<void> {
    const { lane, names, keys, keyColumns } = this
    if (!partial) return this.connection.stage('puts', lane.columns, names, putParts(puts))
    const text: Column = { ...keyColumns[0]!, type: { kind: 'utf8' }, nativeType: 'VARCHAR' }
    const columns = [...lane.columns, text, ...keyColumns, text]
    return this.connection.stage('puts', columns, [...names, 'unsent', ...keys, 'n'], putParts(puts, true))
  }

  /**
   * From the rows as they are there, before any of them goes (`kept.u…` for put `n`). The staged rows are on the right of
   * the join, where DuckDB keeps them in memory; the table streams past.
   */
  async fill(puts: readonly Put[], unsent: readonly number[]): Promise<Put[]> {
    const { lane, connection } = this
    this.unsent = unsent
    const columns = unsent.map(i => `t.${ident(lane.columns[i]!.name)} AS u${i}`)
    await connection.run(
      `CREATE OR REPLACE TEMP TABLE kept AS SELECT puts.n, ${columns.join(', ')} FROM ${tableName(lane.table)} t
         JOIN (SELECT * FROM puts WHERE unsent IS NOT NULL) puts ON ${this.matches('puts')}`,
    )
    const missing = `unsent IS NOT NULL AND n NOT IN (SELECT n FROM kept)`
    const found = await connection.ask(`SELECT n FROM puts WHERE ${missing}`)
    if (found.length > 0) await connection.run(`DELETE FROM puts WHERE ${missing}`)
    return found.map(([n]) => puts[Number(n)]!)
  }

  async remove(keys: readonly Key[]): Promise<void> {
    await this.connection.stage('removed', this.keyColumns, this.keys, keyParts(keys))
    await this.connection.run(
      `DELETE FROM ${tableName(this.lane.table)} t USING removed WHERE ${this.matches('removed')}`,
    )
  }

  async put(emptied: boolean): Promise<void> {
    const { lane, connection, unsent } = this
    const table = tableName(lane.table)
    if (!emptied) {
      const places = lane.key.map(name => lane.columns.findIndex(column => column.name === name))
      const own = lane.key.map((name, i) => `t.${ident(name)} = puts.c${places[i]}`).join(' AND ')
      await connection.run(`DELETE FROM ${table} t USING puts WHERE ${own}`)
    }
    const values = this.names.map((name, i) =>
      unsent.includes(i)
        ? `CASE WHEN contains(puts.unsent, ',${i},') THEN kept.u${i} ELSE puts.${name} END`
        : `puts.${name}`,
    )
    const kept = unsent.length > 0 ? 'LEFT JOIN kept ON kept.n = puts.n' : ''
    await connection.run(
      `INSERT INTO ${table} (${columnList(lane.columns)}) SELECT ${values.join(', ')} FROM puts ${kept}`,
    )
  }

  /** That a row of the table (`t`) has the key of a staged one. */
  private matches(stage: string): string {
    return this.lane.key.map((name, i) => `t.${ident(name)} = ${stage}.k${i}`).join(' AND ')
  }
}
