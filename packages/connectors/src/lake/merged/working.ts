/** A merged table while changes go into it: files that hold rows which change are written anew, all others stay as they are. */
import type { NetEffect, Put } from '@tide/core/apply/net-effect'
import type { Column } from '@tide/core/records/column'
import { randomUUID } from 'node:crypto'
import { createReadStream } from 'node:fs'
import { rm, stat } from 'node:fs/promises'
import { join } from 'node:path'
import type { TargetLane } from '../../contract/target.ts'
import type { DuckdbConnection } from '../../duckdb/host.ts'
import { ident, literal } from '../../duckdb/sql.ts'
import { keyParts, putParts, unsentColumns } from '../../staging.ts'
import type { LocalFiles } from '../local-files.ts'
import type { ObjectStore } from '../object-store.ts'
import { dataPath } from '../paths.ts'
import { stageCsv } from '../staged.ts'
import { withIds } from './fields.ts'
import { currentSchema } from './metadata.ts'
import { FILE, selectMerged } from './select.ts'
import type { LiveFile, MergedTable } from './table.ts'

/** Files smaller than this are put together when there are more than a few of them. */
const SMALL_BYTES = 4 * 2 ** 20
const MOST_SMALL = 16
const LARGEST_FILE_BYTES = 64 * 2 ** 20

/** A file of the table, or one that will be. */
type WorkingFile = Pick<LiveFile, 'path' | 'rows' | 'bytes'>

export interface WorkingParts {
  store: ObjectStore
  connection: DuckdbConnection
  staging: string
  local: LocalFiles
}

export class WorkingTable {
  readonly table: MergedTable
  /** Those of before that are left. */
  files: LiveFile[]
  removed: LiveFile[] = []
  added: WorkingFile[] = []
  /** Rows that came or changed, and keys of rows that went. */
  readonly done = { put: 0, gone: 0 }
  /** Written for this and of no use any more. */
  dropped: string[] = []
  private readonly parts: WorkingParts
  private readonly lane: TargetLane
  private readonly keyColumns: readonly Column[]

  constructor(parts: WorkingParts, lane: TargetLane, table: MergedTable, files: readonly LiveFile[]) {
    this.parts = parts
    this.lane = lane
    this.table = table
    this.files = [...files]
    this.keyColumns = lane.key.map(name => lane.columns.find(column => column.name === name)!)
  }

  get changed(): boolean {
    return this.added.length + this.removed.length > 0
  }

  empty(): void {
    this.drop(this.all)
  }

  /** Returns rows that it has nothing to fill with. */
  async apply({ truncate, markAll, removed, puts }: NetEffect): Promise<Put[]> {
    if (truncate) this.empty()
    if (markAll) await this.mark(markAll)
    if (removed.length === 0 && puts.length === 0) return []
    this.done.put += puts.length
    this.done.gone += removed.length
    const { lane, keyColumns } = this
    const unsent = unsentColumns(puts)
    const keys = keyColumns.map((_, i) => `k${i}`)
    const names = lane.columns.map((_, i) => `c${i}`)
    const text: Column = { ...keyColumns[0]!, type: { kind: 'utf8' }, nativeType: 'VARCHAR' }
    await this.stage('removed', keyColumns, keys, keyParts(removed))
    if (unsent.length > 0)
      await this.stage(
        'puts',
        [...lane.columns, text, ...keyColumns, text],
        [...names, 'unsent', ...keys, 'n'],
        putParts(puts, true),
      )
    else await this.stage('puts', lane.columns, names, putParts(puts))
    const unfilled = unsent.length > 0 ? await this.fill(puts, unsent) : []
    await this.rewrite(unsent)
    return unfilled
  }

  /** Rows as CSV, each in the place of whatever has its key. */
  async put(csv: AsyncIterable<Uint8Array> | Iterable<Uint8Array>): Promise<{ rows: number; bytes: number }> {
    const { lane, keyColumns } = this
    await this.stage(
      'removed',
      keyColumns,
      keyColumns.map((_, i) => `k${i}`),
      [],
    )
    const names = lane.columns.map((_, i) => `c${i}`)
    const staged = await this.stage('puts', lane.columns, names, csv)
    await this.rewrite([])
    this.done.put += staged.rows
    return staged
  }

  /** What was not sent is taken from the rows as they are there. */
  private async fill(puts: readonly Put[], unsent: readonly number[]): Promise<Put[]> {
    const { connection } = this.parts
    const partial = `SELECT * FROM puts WHERE unsent IS NOT NULL`
    const touched = await this.touchedBy(`SELECT ${this.keys('k')} FROM (${partial})`)
    const columns = unsent.map(i => `t.${ident(this.lane.columns[i]!.name)} AS u${i}`)
    await connection.run(
      `CREATE OR REPLACE TEMP TABLE kept AS SELECT p.n, ${columns.join(', ')} FROM (${await this.rowsOf(touched)}) t
         JOIN (${partial}) p ON ${this.matches('t', 'p')}`,
    )
    const missing = `unsent IS NOT NULL AND n NOT IN (SELECT n FROM kept)`
    const found = await connection.ask(`SELECT n FROM puts WHERE ${missing}`)
    if (found.length > 0) await connection.run(`DELETE FROM puts WHERE ${missing}`)
    return found.map(([n]) => puts[Number(n)]!)
  }

  /** Rows go whose keys are among the removed or the staged, and the staged ones come. */
  private async rewrite(unsent: readonly number[]): Promise<void> {
    const { lane, parts } = this
    const places = lane.key.map(name => lane.columns.findIndex(column => column.name === name))
    const gone = `SELECT ${this.keys('k')} FROM removed UNION ALL SELECT ${places.map((place, i) => `c${place} AS k${i}`).join(', ')} FROM puts`
    const touched = await this.touchedBy(gone)
    const small = this.files.filter(({ bytes }) => bytes < SMALL_BYTES)
    if (small.length > MOST_SMALL) for (const file of small) if (!touched.includes(file)) touched.push(file)
    const values = lane.columns.map(({ name }, i) => {
      const value = unsent.includes(i)
        ? `CASE WHEN contains(puts.unsent, ',${i},') THEN kept.u${i} ELSE puts.c${i} END`
        : `puts.c${i}`
      return `${value} AS ${ident(name)}`
    })
    const kept = unsent.length > 0 ? ' LEFT JOIN kept ON kept.n = puts.n' : ''
    const staged = `SELECT ${values.join(', ')} FROM puts${kept}`
    const list = lane.columns.map(({ name }) => `t.${ident(name)}`).join(', ')
    const select =
      touched.length === 0
        ? staged
        : `SELECT ${list} FROM (${await this.rowsOf(touched)}) t ANTI JOIN (${gone}) g ON ${this.matches('t', 'g')} UNION ALL ${staged}`
    const added = await this.write(select)
    this.drop(touched)
    this.added.push(...added)
    for (const name of ['puts', 'removed', 'kept'])
      await parts.connection.run(`DROP TABLE IF EXISTS temp.${name}`)
  }

  private async mark({ column, value }: { column: string; value: string }): Promise<void> {
    const all = this.all
    if (all.length === 0) return
    const list = this.lane.columns.map(({ name, nativeType }) =>
      name === column
        ? `coalesce(t.${ident(name)}, CAST(${literal(value)} AS ${nativeType})) AS ${ident(name)}`
        : `t.${ident(name)}`,
    )
    const added = await this.write(`SELECT ${list.join(', ')} FROM (${await this.rowsOf(all)}) t`)
    this.drop(all)
    this.added.push(...added)
  }

  private get all(): (LiveFile | WorkingFile)[] {
    return [...this.files, ...this.added]
  }

  /** The files that hold any of these keys. */
  private async touchedBy(keys: string): Promise<(LiveFile | WorkingFile)[]> {
    const all = this.all
    if (all.length === 0) return []
    const at = await this.parts.local.bring(all.map(file => this.pathOf(file)))
    const names = this.lane.key
    const rows = selectMerged(this.table, all, at, names)
    const found = await this.parts.connection.ask(
      `SELECT DISTINCT t.${FILE} FROM (${rows}) t SEMI JOIN (${keys}) g ON ${this.matches('t', 'g')}`,
    )
    const paths = new Set(found.map(([path]) => String(path)))
    return all.filter(file => paths.has(at(this.pathOf(file))))
  }

  private async rowsOf(files: readonly WorkingFile[]): Promise<string> {
    const at = await this.parts.local.bring(files.map(file => this.pathOf(file)))
    return selectMerged(
      this.table,
      files,
      at,
      this.lane.columns.map(({ name }) => name),
    )
  }

  private pathOf({ path }: WorkingFile): string {
    return `${this.table.folder}/${path}`
  }

  private drop(files: readonly WorkingFile[]): void {
    const gone = new Set(files.map(({ path }) => path))
    this.removed.push(...this.files.filter(({ path }) => gone.has(path)))
    this.dropped.push(...this.added.filter(({ path }) => gone.has(path)).map(file => this.pathOf(file)))
    this.files = this.files.filter(({ path }) => !gone.has(path))
    this.added = this.added.filter(({ path }) => !gone.has(path))
  }

  /** The rows of a SELECT as files, which nobody names yet. */
  private async write(select: string): Promise<WorkingFile[]> {
    const { store, connection, staging } = this.parts
    const schema = currentSchema(this.table.metadata)
    const folder = join(staging, `merged-${randomUUID()}`)
    const { compress } = this.lane.files!
    try {
      await connection.run(
        `COPY (${select}) TO ${literal(folder)} (FORMAT parquet, COMPRESSION ${compress === 'none' ? 'uncompressed' : compress}, FILE_SIZE_BYTES ${LARGEST_FILE_BYTES}${withIds(schema)})`,
      )
      const counted = await connection.ask(
        `SELECT file_name, num_rows::VARCHAR FROM parquet_file_metadata(${literal(`${folder}/*.parquet`)})`,
      )
      const added: WorkingFile[] = []
      for (const [name, rows] of counted) {
        if (rows === '0') continue
        const { size: bytes } = await stat(String(name))
        const path = mergedPath(this.table, schema['schema-id'])
        await store.put(path, createReadStream(String(name)))
        added.push({ path: path.slice(this.table.folder.length + 1), rows: Number(rows), bytes })
      }
      return added
    } finally {
      await rm(folder, { recursive: true, force: true })
    }
  }

  private stage(
    name: string,
    columns: readonly Column[],
    names: readonly string[],
    csv: AsyncIterable<Uint8Array> | Iterable<Uint8Array>,
  ): Promise<{ rows: number; bytes: number }> {
    const { connection, staging, store } = this.parts
    return stageCsv({ connection, staging, where: store.where }, this.lane, { name, columns, names }, csv)
  }

  private keys(prefix: string): string {
    return this.keyColumns.map((_, i) => `${prefix}${i}`).join(', ')
  }

  private matches(rows: string, staged: string): string {
    return this.lane.key.map((name, i) => `${rows}.${ident(name)} = ${staged}.k${i}`).join(' AND ')
  }
}

/** Where the next file of a table goes; its name says by which schema it is written. */
export function mergedPath({ folder, version }: MergedTable, schema: number): string {
  return dataPath(folder, '', version + 1, `s${schema}-${randomUUID()}`, 'parquet')
}
