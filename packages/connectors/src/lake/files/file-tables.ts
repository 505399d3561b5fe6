/**
 * Files that others put into folders of a lake, as tables: one for each folder, whose rows are the records of its files. A row's key is
 * its file and its line, so that a file which is written anew takes the place of what it was.
 */
import { canonicalOf, inferType } from '@tide/core/records/infer'
import type { Column } from '@tide/core/records/column'
import { csvRows } from '@tide/core/records/csv-rows'
import { wholeLines } from '@tide/core/records/csv-lines'
import type { Dataset, DatasetName, Field } from '@tide/core/records/dataset'
import { typeNamed } from '@tide/core/records/type-name'
import { printType, type LogicalType } from '@tide/core/records/types'
import type { Key, Row, Value } from '@tide/core/records/value'
import { duckdbLogical } from '@tide/core/shape/duckdb'
import { Failure } from '@tide/core/failure'
import { randomUUID } from 'node:crypto'
import { createReadStream } from 'node:fs'
import { rm } from 'node:fs/promises'
import { join } from 'node:path'
import { canonicalText, ident, literal } from '../../duckdb/sql.ts'
import type { LakeEngine } from '../engine.ts'
import { LocalFiles } from '../local-files.ts'
import type { ObjectStore, StoredFile } from '../object-store.ts'
import { isLakeFolder, TYPES_PATH } from '../paths.ts'
import { keepBeside } from './kept-beside.ts'
import type { FileRecord } from './file-record.ts'
import { readRecords, type TextFormat } from './records.ts'

/** The namespace of all of them. */
export const FILES = 'files'

const KEY: Field[] = [
  { name: '_file', type: { kind: 'utf8' }, nativeType: 'text', nullable: false },
  { name: '_line', type: { kind: 'int', bits: 64, signed: true }, nativeType: 'int64', nullable: false },
]
const PROBLEM: Field = {
  name: '_problem',
  type: { kind: 'utf8' },
  nativeType: 'text',
  nullable: true,
  tellsProblem: true,
}
const RESERVED = new Set([...KEY, PROBLEM].map(({ name }) => name))

/** By so many records it is found of what types values are. */
const SAMPLED_RECORDS = 1_000
/** So many of each further file are looked at for other names. */
const LOOKED_AT_RECORDS = 20
/** So deep folders are looked into. */
const DEEPEST = 6

const FORMATS: { ends: RegExp; format: TextFormat | 'parquet' }[] = [
  { ends: /\.(csv|tsv|txt)(\.gz)?$/i, format: 'csv' },
  { ends: /\.(jsonl|ndjson|json)(\.gz)?$/i, format: 'json lines' },
  { ends: /\.parquet$/i, format: 'parquet' },
]

export interface FileTable {
  dataset: DatasetName
  /** With a `/` at its end. */
  folder: string
  files: StoredFile[]
  /** With those that every row has. */
  fields: Field[]
  /** By the rows that were looked at; what is compressed has more. */
  bytesPerRow: number
}

export class FileTables {
  private readonly store: ObjectStore
  private readonly engine: LakeEngine
  /** By `table.column`, types that somebody has said. */
  private readonly said: ReadonlyMap<string, LogicalType>
  /** By folder, what its files had. */
  private readonly known = new Map<
    string,
    { files: string[]; found: Pick<FileTable, 'fields' | 'bytesPerRow'> }
  >()
  /** By file, records that say what columns there are. */
  private readonly samples = new Map<string, (FileRecord & { types?: LogicalType[] })[]>()

  constructor(store: ObjectStore, engine: LakeEngine, said: ReadonlyMap<string, LogicalType>) {
    this.store = store
    this.engine = engine
    this.said = said
  }

  /** Folders that have such files. */
  async all(): Promise<FileTable[]> {
    const found: FileTable[] = []
    const look = async (folder: string, depth: number): Promise<void> => {
      for (const name of (await this.store.folders(folder)).sort()) {
        if (name.startsWith('_') || name.startsWith('.')) continue
        if (depth === 0 && (await isLakeFolder(this.store, name))) continue
        const table = await this.at(`${folder}${name}/`)
        if (table) found.push(table)
        if (depth < DEEPEST) await look(`${folder}${name}/`, depth + 1)
      }
    }
    await look('', 0)
    return found
  }

  async datasets(): Promise<Dataset[]> {
    return (await this.all()).map(({ dataset, files, fields, bytesPerRow }) => ({
      ...dataset,
      kind: 'table',
      fields,
      key: KEY.map(({ name }) => name),
      unseen: 'files that are taken away leave their rows',
      rows: Math.round(bytesOf(files) / bytesPerRow),
      rowsExact: false,
      bytes: bytesOf(files),
    }))
  }

  /** Throws a Failure where there is none. */
  async of({ namespace, name }: DatasetName): Promise<FileTable> {
    const table = namespace === FILES ? await this.at(`${name}/`) : undefined
    if (table) return table
    throw new Failure(
      'structural',
      namespace === FILES
        ? `There are no files in ${name} of ${this.store.where} any more.`
        : `${name} is a table of the lake, and no folder of files that others put there.`,
      namespace === FILES
        ? 'Put them back, or leave the table out in the setup.'
        : 'Follow the source that it is made of.',
    )
  }

  private async at(folder: string): Promise<FileTable | undefined> {
    const files = (await this.store.files(folder)).filter(({ path }) => formatOf(path))
    if (files.length === 0) return undefined
    const dataset = { namespace: FILES, name: folder.slice(0, -1) }
    return { dataset, folder, files, ...(await this.fieldsOf(dataset, folder, files)) }
  }

  /** Of all its files, each column by the first records that have it, or by what somebody has said of it. */
  private async fieldsOf(
    { name: table }: DatasetName,
    folder: string,
    files: readonly StoredFile[],
  ): Promise<Pick<FileTable, 'fields' | 'bytesPerRow'>> {
    const known = this.known.get(folder)
    const ids = files.map(({ path, at }) => `${at} ${path}`)
    if (known && ids.every((id, i) => known.files[i] === id) && known.files.length === ids.length)
      return known.found
    const kept = await this.keptTypes()
    const seen = new Map<string, { texts: string[]; type: LogicalType | undefined }>()
    // What was followed stays a column, also when no file has it any more.
    for (const id of kept.keys())
      if (id.startsWith(`${table}.`)) seen.set(id.slice(table.length + 1), { texts: [], type: undefined })
    let [rows, signs] = [0, 0]
    for (const [i, file] of files.entries()) {
      for await (const { names, values, types } of this.sample(file, ids[i]!, seen)) {
        rows++
        signs += values.reduce((sum, value) => sum + 1 + (value?.length ?? 0), 0)
        names.forEach((name, place) => {
          const column = seen.get(name) ?? { texts: [], type: types?.[place] }
          const value = values[place]
          if (value !== null && value !== undefined && column.texts.length < SAMPLED_RECORDS)
            column.texts.push(value)
          seen.set(name, column)
        })
      }
    }
    const own = [...seen].filter(([name]) => !RESERVED.has(name))
    const fields = [
      ...KEY,
      ...own.map(([name, { texts, type }]): Field => {
        const id = `${table}.${name}`
        const is = this.said.get(id) ?? type ?? kept.get(id) ?? inferType(texts)
        return { name, type: is, nativeType: printType(is), nullable: true }
      }),
      PROBLEM,
    ]
    const found = { fields, bytesPerRow: Math.max(1, signs / Math.max(1, rows)) }
    this.known.set(folder, { files: ids, found })
    return found
  }

  /** From here on the columns of these tables are of the types that they are found to be now, whatever comes. */
  async keepTypes(names: readonly DatasetName[]): Promise<void> {
    const kept = new Map(await this.keptTypes())
    for (const name of names) {
      const { dataset, fields } = await this.of(name)
      for (const { name: column, type } of fields) kept.set(`${dataset.name}.${column}`, type)
    }
    const said = Object.fromEntries([...kept].map(([id, type]) => [id, printType(type)]))
    // Where nothing can be written, another type stops whoever follows, by its name.
    await keepBeside(this.store, TYPES_PATH, JSON.stringify(said))
  }

  /** Nobody follows them any more. */
  async forgetTypes(): Promise<void> {
    await this.store.remove([TYPES_PATH]).catch(() => {})
    this.known.clear()
  }

  private async keptTypes(): Promise<ReadonlyMap<string, LogicalType>> {
    const read = await this.store.read(TYPES_PATH)
    try {
      const said = Object.entries(Object(read && JSON.parse(Buffer.from(read).toString())) as object)
      return new Map(
        said.flatMap(([id, name]): [string, LogicalType][] => {
          const type = typeNamed(String(name))
          return type ? [[id, type]] : []
        }),
      )
    } catch {
      return new Map() // nobody's work of ours
    }
  }

  /** The first records of a file; of one that was looked at and brings no other names, none. */
  private async *sample(
    file: StoredFile,
    id: string,
    seen: ReadonlyMap<string, unknown>,
  ): AsyncGenerator<FileRecord & { types?: LogicalType[] }> {
    const kept = this.samples.get(id)
    if (kept) return yield* kept
    const records: (FileRecord & { types?: LogicalType[] })[] = []
    const rest = seen.size === 0 ? SAMPLED_RECORDS : LOOKED_AT_RECORDS
    for await (const record of this.records(file, rest)) if (records.push(record) === rest) break
    // Many files alike need not be kept in memory.
    const more = records.some(({ names }) => names.some(name => !seen.has(name)))
    this.samples.set(id, more ? records : [])
    yield* records
  }

  /** The rows of a file with the values of these columns, in the order of their lines. */
  async *rows(
    { folder }: Pick<FileTable, 'folder'>,
    file: StoredFile,
    columns: readonly Pick<Column, 'name' | 'type'>[],
  ): AsyncGenerator<Row> {
    const name = file.path.slice(folder.length)
    let [names, places]: [readonly string[] | undefined, number[]] = [undefined, []]
    for await (const record of this.records(file)) {
      if (record.names !== names) {
        names = record.names
        places = columns.map(column => record.names.indexOf(column.name))
      }
      yield rowOf(name, record, columns, places)
    }
  }

  /** `most`: no more are wanted. */
  private async *records(
    file: StoredFile,
    most?: number,
  ): AsyncGenerator<FileRecord & { types?: LogicalType[] }> {
    const local = new LocalFiles(this.store, await this.engine.staging())
    try {
      const at = (await local.bring([file.path]))(file.path)
      const format = formatOf(file.path)!
      if (format === 'parquet') yield* this.parquet(at, most)
      else yield* readRecords(at, format, /\.gz$/i.test(file.path))
    } catch (thrown) {
      if (thrown instanceof Failure) throw thrown
      // What cannot be read at all is told as one record that could not be.
      const { code, message } = thrown as NodeJS.ErrnoException
      if (code === 'ENOENT') throw takenAway(file, thrown)
      if (code === 'EIO' || code === 'EACCES' || code === 'EMFILE') throw thrown
      yield { line: 0, names: [], values: [], problem: `the file cannot be read: ${message}` }
    } finally {
      await local.remove()
    }
  }

  private async *parquet(
    file: string,
    most: number | undefined,
  ): AsyncGenerator<FileRecord & { types: LogicalType[] }> {
    const staging = await this.engine.staging()
    const csv = join(staging, `records-${randomUUID()}.csv`)
    const columns = await this.engine.with(async connection => {
      const from = `read_parquet(${literal(file)}, file_row_number = true, hive_partitioning = false)`
      const described = await connection.ask(
        `SELECT column_name, column_type FROM (DESCRIBE SELECT * EXCLUDE (file_row_number) FROM ${from})`,
      )
      const found = described.map(([name, native]) => ({
        name: String(name),
        native: String(native),
        type: duckdbLogical(String(native)),
      }))
      const texts = found.map(({ name, native, type }) => canonicalText(ident(name), type, native))
      await connection.run(
        `COPY (SELECT file_row_number + 1 AS n, ${texts.map((text, i) => `${text} AS c${i}`).join(', ')} FROM ${from} ORDER BY n${most === undefined ? '' : ` LIMIT ${most}`})
           TO ${literal(csv)} (FORMAT csv, HEADER false, FORCE_QUOTE (${texts.map((_, i) => `c${i}`).join(', ')}))`,
      )
      return found
    })
    const [names, types] = [columns.map(({ name }) => name), columns.map(({ type }) => type)]
    try {
      for await (const lines of wholeLines(createReadStream(csv)))
        for (const [line, ...values] of csvRows(lines))
          yield {
            line: Number(line),
            names,
            types,
            values: values.map(value => value ?? null),
            problem: null,
          }
    } finally {
      await rm(csv, { force: true })
    }
  }
}

/** Its rows must not be taken for gone. */
function takenAway({ path }: StoredFile, cause: unknown): Failure {
  return new Failure(
    'transient',
    `${path} was taken away while it was to be read.`,
    'It is looked again by itself what files there are.',
    cause,
  )
}

function bytesOf(files: readonly StoredFile[]): number {
  return files.reduce((sum, { bytes }) => sum + bytes, 0)
}

function formatOf(path: string): TextFormat | 'parquet' | undefined {
  return FORMATS.find(({ ends }) => ends.test(path))?.format
}

/** A value that is none of its column's type makes a problem, and is not among the others. */
function rowOf(
  file: string,
  { line, values, problem, types }: FileRecord & { types?: LogicalType[] },
  columns: readonly Pick<Column, 'name' | 'type'>[],
  places: readonly number[],
): Row {
  let why = problem
  const row = columns.map(({ name, type }, i): Value => {
    if (name === '_file') return file
    if (name === '_line') return String(line)
    const place = places[i]!
    const text = place < 0 ? null : (values[place] ?? null)
    if (text === null) return null
    // What comes in a type of its own is canonical already.
    const is = types && printType(types[place]!) === printType(type) ? text : canonicalOf(text, type)
    if (is !== undefined) return is
    why ??= `“${text.slice(0, 60)}” is no ${printType(type)}, in ${name}`
    return null
  })
  const place = columns.findIndex(({ name }) => name === PROBLEM.name)
  return place < 0 ? row : row.with(place, why)
}

/** The keys of a file's rows. */
export function keyOfLine(file: string, line: number): Key {
  return [file, String(line)]
}

/** `deliveries.amount: decimal(12,2)`, one to a line. Throws a Failure for a line that says something else. */
export function typesSaid(text: string): ReadonlyMap<string, LogicalType> {
  const said = new Map<string, LogicalType>()
  for (const line of text.split('\n')) {
    if (line.trim() === '') continue
    const [, column, name] = /^\s*(.+?)\s*:\s*(.+?)\s*$/.exec(line) ?? []
    const type = name === undefined ? undefined : typeNamed(name)
    if (column === undefined || !type)
      throw new Failure(
        'refused',
        `“${line.trim().slice(0, 80)}” names no column and type.`,
        'Write a table, its column and a type, such as incoming/deliveries.amount: decimal(12,2).',
      )
    said.set(column, type)
  }
  return said
}
