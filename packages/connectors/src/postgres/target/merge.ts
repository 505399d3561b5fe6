/** How changes get into a table of PostgreSQL: into a stage beside it by COPY, and from there in one statement. */
import type { Put } from '@tide/core/apply/net-effect'
import { listLiteral } from '@tide/core/records/list'
import type { Key } from '@tide/core/records/value'
import type { PoolClient } from 'pg'
import type { TargetLane } from '../../contract/target.ts'
import type { TurnField } from '../../csv-fields.ts'
import type { MergeSteps } from '../../merge.ts'
import { keyParts, putParts } from '../../staging.ts'
import { tableName } from '../catalogue.ts'
import { ident } from '../text.ts'
import { copyInto } from './copy-into.ts'
import { columnList, emptied, marked, upsert } from './sql.ts'

const PUTS = 'pg_temp.tide_puts'
const REMOVED = 'pg_temp.tide_removed'

const UNIQUE_VIOLATION = '23505'

/** Staged beside a row: which of its columns were not sent, and which row of the batch it is. */
const UNSENT = ident('tide: unsent')
const INDEX = ident('tide: index')
const keyColumn = (i: number) => ident(`tide: key ${i}`)

export class PostgresMerge implements MergeSteps {
  private readonly client: PoolClient
  private readonly lane: TargetLane
  private readonly table: string
  private readonly analyzed: Set<string>

  /** `analyzed`: tables that the server's planner knows by now. */
  constructor(client: PoolClient, lane: TargetLane, analyzed: Set<string>) {
    this.client = client
    this.lane = lane
    this.table = tableName(lane.table)
    this.analyzed = analyzed
  }

  async empty(): Promise<void> {
    await this.client.query(emptied(this.lane))
  }

  async markAll(column: string, value: string): Promise<void> {
    await this.client.query(marked(this.lane, column, value))
  }

  async insertFresh(puts: readonly Put[]): Promise<boolean> {
    const { client, lane, table } = this
    await client.query('SAVEPOINT fresh')
    try {
      const rows = putParts(puts, false, turnsOf(lane))
      await copyInto(client, `${table} (${columnList(lane.columns)})`, rows)
      await client.query('RELEASE SAVEPOINT fresh')
      return true
    } catch (error) {
      if ((error as { code?: unknown }).code !== UNIQUE_VIOLATION) throw error
      await client.query('ROLLBACK TO SAVEPOINT fresh')
      return false
    }
  }

  async append(puts: readonly Put[]): Promise<void> {
    const { client, lane, table } = this
    await copyInto(client, `${table} (${columnList(lane.columns)})`, putParts(puts, false, turnsOf(lane)))
  }

  async stage(puts: readonly Put[], partial: boolean): Promise<void> {
    const columns = this.lane.columns.map(({ name, nativeType }) => `${ident(name)} ${nativeType}`)
    if (partial) columns.push(`${UNSENT} text`, ...this.keys, `${INDEX} int`)
    await this.client.query(`CREATE TEMP TABLE ${PUTS} (${columns.join(', ')}) ON COMMIT DROP`)
    await copyInto(this.client, PUTS, putParts(puts, partial, turnsOf(this.lane)))
  }

  async fill(puts: readonly Put[], unsent: readonly number[]): Promise<Put[]> {
    const { client, lane, table, matches } = this
    // Nobody else does it for temporary tables, and without it joins with them are planned as if they held next to nothing.
    await client.query(`ANALYZE ${PUTS}`)
    await this.analyzeOnce()
    for (const i of unsent) {
      const column = ident(lane.columns[i]!.name)
      await client.query(
        `UPDATE ${PUTS} s SET ${column} = t.${column} FROM ${table} t WHERE ${matches} AND s.${UNSENT} LIKE '%,${i},%'`,
      )
    }
    const missing = await client.query(
      `DELETE FROM ${PUTS} s WHERE ${UNSENT} IS NOT NULL AND NOT EXISTS (SELECT FROM ${table} t WHERE ${matches}) RETURNING ${INDEX} AS index`,
    )
    return missing.rows.map(({ index }) => puts[Number(index)]!)
  }

  async remove(keys: readonly Key[]): Promise<void> {
    const { client } = this
    await client.query(`CREATE TEMP TABLE ${REMOVED} (${this.keys.join(', ')}) ON COMMIT DROP`)
    await copyInto(client, REMOVED, keyParts(keys))
    await client.query(`ANALYZE ${REMOVED}`)
    await client.query(`DELETE FROM ${this.table} t USING ${REMOVED} s WHERE ${this.matches}`)
    await client.query(`DROP TABLE ${REMOVED}`)
  }

  async put(): Promise<void> {
    await this.client.query(upsert(this.lane, PUTS))
    await this.client.query(`DROP TABLE ${PUTS}`) // a transaction in many parts must not pile them up
  }

  /** A table that has just been copied is not known to the planner yet. */
  private async analyzeOnce(): Promise<void> {
    if (this.analyzed.has(this.table)) return
    await this.client.query(`ANALYZE ${this.table}`)
    this.analyzed.add(this.table)
  }

  private get keys(): string[] {
    const { key, columns } = this.lane
    return key.map((name, i) => `${keyColumn(i)} ${columns.find(column => column.name === name)!.nativeType}`)
  }

  /** That a row of the table (`t`) has the key of a staged one (`s`). */
  private get matches(): string {
    return this.lane.key.map((name, i) => `t.${ident(name)} = s.${keyColumn(i)}`).join(' AND ')
  }
}

/** How values are turned that are written otherwise here. */
function turnsOf({ columns }: TargetLane): (TurnField | undefined)[] {
  return columns.map(({ type }) =>
    type.kind === 'list' ? (text: string) => listLiteral(text, type.delimiter ?? ',') : undefined,
  )
}
