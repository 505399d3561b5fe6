/** Reading a lake for people: catalogue, previews, rows, questions. */
import type { Catalogue, Grid, TableVersion } from '@tide/core/api/browse'
import { Failure } from '@tide/core/failure'
import type { Dataset, DatasetName } from '@tide/core/records/dataset'
import type { Key, Row } from '@tide/core/records/value'
import type { KeyedTable, OrderedTable } from '../contract/records.ts'
import type { TargetLane } from '../contract/target.ts'
import type { QueryLimits, RowBatch, StreamLimits } from '../contract/session.ts'
import { duckdbFailure } from '../duckdb/errors.ts'
import type { DuckdbConnection } from '../duckdb/host.ts'
import { query, queryRows } from '../duckdb/read.ts'
import { readOrdered, readRow, readRows } from '../duckdb/rows.ts'
import { ident, tableName } from '../duckdb/sql.ts'
import type { LakeEngine } from './engine.ts'
import { ORDER, rowOfChanges, UPSERTS } from './changed-row.ts'
import { LocalFiles } from './local-files.ts'
import type { ObjectStore } from './object-store.ts'
import { stageCsv } from './staged.ts'
import { LakeTables, type LakeTable, type Reading } from './tables.ts'

/** What is read for a moment: a temporary view, or a table that is put together. */
const READ: DatasetName = { namespace: 'temp', name: 'constant tide: what is read' }

/** Rows that are not in an archive yet. */
const LIVE = '"constant tide: what lives"'

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
    const datasets = (await this.tables.all()).map(
      ({ namespace, name, columns, key, rows, bytes }): Dataset => ({
        namespace,
        name,
        kind: 'table',
        fields: [...columns],
        key: [...key],
        rows,
        rowsExact: true,
        bytes,
      }),
    )
    return { schemas: [...new Set(datasets.map(({ namespace }) => namespace))], datasets }
  }

  /** Of changes the newest, the last one first; of a merged table any. */
  async preview(name: DatasetName, limits: QueryLimits): Promise<Grid> {
    const table = await this.tables.of(name)
    const grid = await this.reading(table, limits.maxRows, (connection, select) => {
      if (!table.tellsChanges) return connection.question(`${select} LIMIT ${limits.maxRows}`, limits)
      const rows = `SELECT *, row_number() OVER () AS ${ORDER} FROM (${select})`
      const sql = `SELECT * EXCLUDE (${ORDER}) FROM (${rows}) ORDER BY ${ORDER} DESC LIMIT ${limits.maxRows}`
      return connection.question(sql, limits)
    })
    return { ...grid, total: table.rows }
  }

  async versions(name: DatasetName, most: number): Promise<TableVersion[]> {
    return (await this.tables.of(name)).versions(most)
  }

  async previewAt(name: DatasetName, version: string, limits: QueryLimits): Promise<Grid> {
    const then = await this.then(await this.tables.of(name), version)
    return this.withFiles(async (connection, local) => {
      const select = then.select(await local.bring(then.paths))
      const [[total] = []] = await connection.ask(`SELECT count(*)::VARCHAR FROM (${select})`)
      const grid = await connection.question(`${select} LIMIT ${limits.maxRows}`, limits)
      return { ...grid, total: Number(total) }
    })
  }

  /** Rows are held against each other whole, so that one that changed went and came. */
  async difference(name: DatasetName, from: string, to: string, limits: QueryLimits): Promise<Grid> {
    const table = await this.merged(name)
    const [before, after] = [await this.then(table, from), await this.then(table, to)]
    return this.withFiles(async (connection, local) => {
      // What only one of them has tells nothing of rows.
      const both = after.names.filter(name => before.names.includes(name))
      const rows = async ({ paths, select }: Reading) =>
        `SELECT ${both.map(ident).join(', ')} FROM (${select(await local.bring(paths))})`
      const [was, is] = [await rows(before), await rows(after)]
      const key = table.key
        .filter(name => both.includes(name))
        .map(ident)
        .join(', ')
      return connection.question(
        `SELECT * FROM (SELECT 'gone' AS "change", * FROM (${was} EXCEPT ALL ${is})
           UNION ALL SELECT 'come', * FROM (${is} EXCEPT ALL ${was})) ORDER BY ${key === '' ? 'ALL' : `${key}, "change" DESC`}`,
        limits,
      )
    })
  }

  private async then(table: LakeTable, version: string): Promise<Reading> {
    const then = await table.at(version)
    if (then) return then
    throw new Failure(
      'refused',
      `There is no version ${version} of ${table.name} any more.`,
      'Choose one of those that are listed.',
    )
  }

  async count(name: DatasetName): Promise<number> {
    return (await this.tables.of(name)).rows
  }

  /** Of change files: as its changes have left it; without a key, the one of the newest change. */
  async row(asked: KeyedTable, key: Key | null): Promise<Row | null> {
    const table = await this.tables.of(asked.dataset)
    if (!table.tellsChanges)
      return this.viewing(table, connection => readRow(connection, { ...asked, dataset: READ }, key))
    const wanted = key ?? (await this.newestKey(table, asked))
    if (!wanted) return null
    return this.reading(table, undefined, async (connection, select) => {
      const changes = `SELECT *, row_number() OVER () AS ${ORDER} FROM (${select})`
      await connection.run(
        `CREATE OR REPLACE TEMP TABLE ${ident(READ.name)} AS ${rowOfChanges(changes, asked, wanted)}`,
      )
      return readRow(connection, { ...asked, dataset: READ }, wanted)
    })
  }

  async rows(asked: KeyedTable, keys: readonly Key[]): Promise<Row[]> {
    const table = await this.merged(asked.dataset)
    return this.viewing(table, connection => readRows(connection, { ...asked, dataset: READ }, keys))
  }

  async *ordered(asked: OrderedTable, limits: Omit<StreamLimits, 'batchRows'>): AsyncGenerator<Uint8Array> {
    const table = await this.merged(asked.dataset)
    const staging = await this.engine.staging()
    const local = new LocalFiles(this.store, staging)
    try {
      const { paths, select } = await table.read()
      const at = await local.bring(paths)
      yield* this.engine.streaming(async function* (connection) {
        await connection.run(`CREATE OR REPLACE TEMP VIEW ${ident(READ.name)} AS ${select(at)}`)
        yield* readOrdered(connection, { ...asked, dataset: READ }, staging, limits)
      })
    } catch (thrown) {
      throw duckdbFailure(thrown, this.store.where)
    } finally {
      await local.remove()
    }
  }

  /** The rows of an archive and those that are given, as one table. */
  async together(
    lane: TargetLane,
    live: AsyncIterable<Uint8Array>,
    sql: string,
    limits: QueryLimits,
  ): Promise<Grid> {
    const table = await this.merged(lane.table)
    const staging = await this.engine.staging()
    const { where } = this.store
    const names = lane.columns.map(({ name }) => ident(name))
    const equal = lane.key.map(name => `l.${ident(name)} = a.${ident(name)}`).join(' AND ')
    return this.reading(table, undefined, async (connection, select) => {
      try {
        await stageCsv(
          { connection, staging, where },
          lane,
          { name: LIVE, columns: lane.columns, names },
          live,
        )
        await connection.run(
          `CREATE OR REPLACE TEMP VIEW ${ident(table.name)} AS
             SELECT ${names.join(', ')}, false AS in_archive FROM temp.${LIVE}
             UNION ALL SELECT ${names.join(', ')}, true FROM (${select}) a WHERE NOT EXISTS (FROM temp.${LIVE} l WHERE ${equal})`,
        )
        return await query(connection, sql, limits)
      } finally {
        await connection.run(`DROP VIEW IF EXISTS temp.${ident(table.name)}`)
        await connection.run(`DROP TABLE IF EXISTS temp.${LIVE}`)
      }
    })
  }

  async query(sql: string, limits: QueryLimits): Promise<Grid> {
    const tables = await this.mentioned(sql)
    return this.withFiles(async (connection, local) => {
      await makeViews(connection, tables, local)
      return query(connection, sql, limits)
    })
  }

  async *queryRows(sql: string, limits: StreamLimits): AsyncGenerator<RowBatch> {
    const local = new LocalFiles(this.store, await this.engine.staging())
    try {
      const tables = await this.mentioned(sql)
      yield* this.engine.streaming(async function* (connection) {
        await makeViews(connection, tables, local)
        yield* queryRows(connection, sql, limits)
      })
    } catch (thrown) {
      throw duckdbFailure(thrown, this.store.where)
    } finally {
      await local.remove()
    }
  }

  private async newestKey(table: LakeTable, asked: KeyedTable): Promise<Key | undefined> {
    const columns = asked.columns.filter(({ name }) => asked.key.includes(name))
    const row = await this.reading(table, 1, async (connection, select) => {
      const all = `SELECT *, row_number() OVER () AS ${ORDER} FROM (${select})`
      const last = `SELECT * FROM (${all}) WHERE ${UPSERTS} ORDER BY ${ORDER} DESC LIMIT 1`
      await connection.run(`CREATE OR REPLACE TEMP TABLE ${ident(READ.name)} AS ${last}`)
      return readRow(connection, { dataset: READ, columns, key: asked.key }, null)
    })
    return row ? asked.key.map(name => row[columns.findIndex(column => column.name === name)]!) : undefined
  }

  private async merged(name: DatasetName): Promise<LakeTable> {
    const table = await this.tables.of(name)
    if (!table.tellsChanges) return table
    throw new Failure(
      'refused',
      `${name.name} is made of change files, which are not held against the source.`,
      'Read them by the guide, or land it as a merged table.',
    )
  }

  /** The tables whose names stand in a statement. */
  private async mentioned(sql: string): Promise<LakeTable[]> {
    const text = sql.toLowerCase()
    const asksForAll = /\b(information_schema|duckdb_\w+|show|describe|pg_catalog)\b/.test(text)
    const tables = await this.tables.all()
    return tables.filter(({ name }) => asksForAll || text.includes(name.toLowerCase().replaceAll('"', '""')))
  }

  private viewing<T>(table: LakeTable, body: (connection: DuckdbConnection) => Promise<T>): Promise<T> {
    return this.reading(table, undefined, async (connection, select) => {
      await connection.run(`CREATE OR REPLACE TEMP VIEW ${ident(READ.name)} AS ${select}`)
      return body(connection)
    })
  }

  private reading<T>(
    table: LakeTable,
    rows: number | undefined,
    body: (connection: DuckdbConnection, select: string) => Promise<T>,
  ): Promise<T> {
    return this.withFiles(async (connection, local) => {
      const { paths, select } = await table.read(rows)
      return body(connection, select(await local.bring(paths)))
    })
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

async function makeViews(
  connection: DuckdbConnection,
  tables: readonly LakeTable[],
  local: LocalFiles,
): Promise<void> {
  for (const table of tables) {
    const { paths, select } = await table.read()
    const at = await local.bring(paths)
    await connection.run(`CREATE SCHEMA IF NOT EXISTS ${ident(table.namespace)}`)
    await connection.run(`CREATE OR REPLACE VIEW ${tableName(table)} AS ${select(at)}`)
  }
}
