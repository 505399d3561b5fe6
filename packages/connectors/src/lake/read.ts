/** Reading a lake for people: catalogue, previews, rows, questions. */
import type { Catalogue, Grid } from '@tide/core/api/browse'
import { Failure } from '@tide/core/failure'
import type { Dataset, DatasetName } from '@tide/core/records/dataset'
import type { Key, Row } from '@tide/core/records/value'
import type { KeyedTable } from '../contract/records.ts'
import type { QueryLimits, RowBatch, StreamLimits } from '../contract/session.ts'
import { duckdbFailure } from '../duckdb/errors.ts'
import type { DuckdbConnection } from '../duckdb/host.ts'
import { query, queryRows } from '../duckdb/read.ts'
import { readRow } from '../duckdb/rows.ts'
import { ident, tableName } from '../duckdb/sql.ts'
import type { LakeEngine } from './engine.ts'
import { ORDER, rowOfChanges, UNTOLD, UPSERTS } from './changed-row.ts'
import { LocalFiles } from './local-files.ts'
import type { ObjectStore } from './object-store.ts'
import { LakeTables, type LakeTable } from './tables.ts'
import { selectFrom } from './views.ts'

/** Where a temporary table is put together of what is looked for. */
const STORY: DatasetName = { namespace: 'temp', name: 'constant tide: one row' }

export class LakeReader {
  private readonly store: ObjectStore
  private readonly engine: LakeEngine
  private readonly tables: LakeTables

  constructor(store: ObjectStore, engine: LakeEngine) {
    this.store = store
    this.engine = engine
    this.tables = new LakeTables(store)
  }

  async catalogue(): Promise<Catalogue> {
    const tables = await this.tables.all()
    const datasets = tables.map(({ newest, schema }): Dataset => {
      const { rows, bytes } = newest.total
      const fields = schema.columns.map(column => ({
        ...column,
        nullable: !schema.key.includes(column.name),
      }))
      return { ...schema.table, kind: 'table', fields, key: [], rows, rowsExact: true, bytes }
    })
    return { schemas: [...new Set(datasets.map(({ namespace }) => namespace))], datasets }
  }

  /** The newest rows, the last one first. */
  async preview(name: DatasetName, limits: QueryLimits): Promise<Grid> {
    const table = await this.tables.of(name)
    const groups = await this.tables.groups(table, limits.maxRows)
    return this.locally(
      groups.flatMap(({ paths }) => paths),
      (connection, at) => {
        const rows = `SELECT *, row_number() OVER () AS ${ORDER} FROM (${selectFrom(groups, table.schema, at)})`
        const sql = `SELECT * EXCLUDE (${ORDER}) FROM (${rows}) ORDER BY ${ORDER} DESC LIMIT ${limits.maxRows}`
        return connection.question(sql, limits)
      },
    ).then(grid => ({ ...grid, total: table.newest.total.rows }))
  }

  async count(name: DatasetName): Promise<number> {
    return (await this.tables.of(name)).newest.total.rows
  }

  /** The row as its changes have left it; without a key, that of the newest change of all. */
  async row(asked: KeyedTable, key: Key | null): Promise<Row | null> {
    const table = await this.tables.of(asked.dataset)
    if (!table.schema.columns.some(({ name }) => name === UNTOLD)) return null
    const wanted = key ?? (await this.newestKey(table, asked))
    if (!wanted) return null
    const groups = await this.tables.groups(table)
    return this.locally(
      groups.flatMap(({ paths }) => paths),
      async (connection, at) => {
        const changes = `SELECT *, row_number() OVER () AS ${ORDER} FROM (${selectFrom(groups, table.schema, at)})`
        await connection.run(
          `CREATE OR REPLACE TEMP TABLE ${ident(STORY.name)} AS ${rowOfChanges(changes, asked, wanted)}`,
        )
        return readRow(connection, { ...asked, dataset: STORY }, wanted)
      },
    )
  }

  private async newestKey(table: LakeTable, asked: KeyedTable): Promise<Key | undefined> {
    const groups = await this.tables.groups(table, 1)
    const columns = asked.columns.filter(({ name }) => asked.key.includes(name))
    return this.locally(
      groups.flatMap(({ paths }) => paths),
      async (connection, at) => {
        const all = `SELECT *, row_number() OVER () AS ${ORDER} FROM (${selectFrom(groups, table.schema, at)})`
        const last = `SELECT * FROM (${all}) WHERE ${UPSERTS} ORDER BY ${ORDER} DESC LIMIT 1`
        await connection.run(`CREATE OR REPLACE TEMP TABLE ${ident(STORY.name)} AS ${last}`)
        const row = await readRow(connection, { dataset: STORY, columns, key: asked.key }, null)
        return row && asked.key.map(name => row[columns.findIndex(column => column.name === name)]!)
      },
    ).then(found => found ?? undefined)
  }

  async query(sql: string, limits: QueryLimits): Promise<Grid> {
    const tables = await this.mentioned(sql)
    return this.viewing(tables, connection => query(connection, sql, limits))
  }

  async *queryRows(sql: string, limits: StreamLimits): AsyncGenerator<RowBatch> {
    const local = new LocalFiles(this.store, await this.engine.staging())
    try {
      const tables = await this.mentioned(sql)
      yield* this.engine.streaming(connection => this.streamed(connection, tables, local, sql, limits))
    } catch (thrown) {
      throw duckdbFailure(thrown, this.store.where)
    } finally {
      await local.remove()
    }
  }

  private async *streamed(
    connection: DuckdbConnection,
    tables: readonly LakeTable[],
    local: LocalFiles,
    sql: string,
    limits: StreamLimits,
  ): AsyncGenerator<RowBatch> {
    await this.makeViews(connection, tables, local)
    yield* queryRows(connection, sql, limits)
  }

  private viewing<T>(
    tables: readonly LakeTable[],
    body: (connection: DuckdbConnection) => Promise<T>,
  ): Promise<T> {
    return this.withFiles(async (connection, local) => {
      await this.makeViews(connection, tables, local)
      return body(connection)
    })
  }

  private async makeViews(
    connection: DuckdbConnection,
    tables: readonly LakeTable[],
    local: LocalFiles,
  ): Promise<void> {
    for (const table of tables) {
      const groups = await this.tables.groups(table)
      const at = await local.bring(groups.flatMap(({ paths }) => paths))
      await connection.run(`CREATE SCHEMA IF NOT EXISTS ${ident(table.schema.table.namespace)}`)
      await connection.run(
        `CREATE OR REPLACE VIEW ${tableName(table.schema.table)} AS ${selectFrom(groups, table.schema, at)}`,
      )
    }
  }

  /** The tables whose names stand in a statement. */
  private async mentioned(sql: string): Promise<LakeTable[]> {
    const text = sql.toLowerCase()
    const asksForAll = /\b(information_schema|duckdb_\w+|show|describe|pg_catalog)\b/.test(text)
    const tables = await this.tables.all()
    return tables.filter(({ schema }) => asksForAll || text.includes(schema.table.name.toLowerCase()))
  }

  private locally<T>(
    paths: readonly string[],
    body: (connection: DuckdbConnection, at: (path: string) => string) => Promise<T>,
  ): Promise<T> {
    return this.withFiles(async (connection, local) => body(connection, await local.bring(paths)))
  }

  private async withFiles<T>(
    body: (connection: DuckdbConnection, local: LocalFiles) => Promise<T>,
  ): Promise<T> {
    const local = new LocalFiles(this.store, await this.engine.staging())
    try {
      return await this.engine.with(connection => body(connection, local))
    } catch (thrown) {
      throw thrown instanceof Failure ? thrown : duckdbFailure(thrown, this.store.where)
    } finally {
      await local.remove()
    }
  }
}
