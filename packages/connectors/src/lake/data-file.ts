/** A file of rows while it is written: its rows go on to the store as they come. */
import type { LandedFiles } from '@tide/core/definition/files'
import { csvLine, CsvWriter } from '@tide/core/records/csv'
import { JsonLinesWriter } from '@tide/core/records/json-lines'
import type { Column } from '@tide/core/records/column'
import type { PackedRow } from '@tide/core/records/tuple'
import { createHash, randomUUID } from 'node:crypto'
import { once } from 'node:events'
import { PassThrough, type Transform } from 'node:stream'
import { createGzip } from 'node:zlib'
import type { TargetLane } from '../contract/target.ts'
import type { MakingParquet, Parquet } from './parquet.ts'
import type { DataFile } from './manifest.ts'
import type { ObjectStore } from './object-store.ts'
import { dataPath } from './paths.ts'

const PART_BYTES = 256 * 1024
const ENDS: Record<LandedFiles['format'], string> = { 'json lines': 'jsonl', csv: 'csv', parquet: 'parquet' }

export interface FilePlace {
  store: ObjectStore
  /** The table's. */
  folder: string
  /** Folders within, or nothing. */
  within: string
  sequence: number
}

export interface OpenDataFile {
  /** Where it will be, from the top of the lake on. */
  readonly path: string
  /** Of its rows, before they are compressed. */
  readonly bytes: number
  put(rows: Iterable<PackedRow>): Promise<void>
  finish(): Promise<DataFile>
  /** What there is of it goes. */
  abort(): Promise<void>
}

export function openDataFile(
  place: FilePlace,
  lane: TargetLane,
  { format, compress }: LandedFiles,
  columns: readonly Column[],
  parquet: Parquet,
): OpenDataFile {
  const zipped = format !== 'parquet' && compress === 'gzip'
  const end = `${ENDS[format]}${zipped ? '.gz' : ''}`
  const path = dataPath(place.folder, place.within, place.sequence, randomUUID(), end)
  const stored = new StoredFile(place, path)
  return format === 'parquet'
    ? new ParquetFile(stored, parquet.begin(lane, columns, compress))
    : new TextFile(stored, format, zipped, columns)
}

/** Bytes on their way to the store, counted and hashed as they lie there. */
class StoredFile {
  readonly path: string
  private readonly place: FilePlace
  private bytes = 0
  private readonly hash = createHash('sha256')

  constructor(place: FilePlace, path: string) {
    this.place = place
    this.path = path
  }

  put(body: AsyncIterable<Uint8Array>): Promise<void> {
    return this.place.store.put(this.path, this.metered(body))
  }

  told(rows: number): DataFile {
    const path = this.path.slice(this.place.folder.length + 1)
    return { path, rows, bytes: this.bytes, sha256: this.hash.digest('hex') }
  }

  remove(): Promise<void> {
    return this.place.store.remove([this.path])
  }

  private async *metered(body: AsyncIterable<Uint8Array>): AsyncGenerator<Uint8Array> {
    for await (const part of body) {
      this.bytes += part.length
      this.hash.update(part)
      yield part
    }
  }
}

class TextFile implements OpenDataFile {
  bytes = 0
  private rows = 0
  private readonly stored: StoredFile
  private readonly writer: { row(row: PackedRow): void; length: number; take(): Uint8Array }
  private readonly stream: Transform
  private readonly written: Promise<void>
  private failed: { thrown: unknown } | undefined

  constructor(
    stored: StoredFile,
    format: LandedFiles['format'],
    zipped: boolean,
    columns: readonly Column[],
  ) {
    this.stored = stored
    this.writer = format === 'csv' ? new CsvLines(columns) : new JsonLinesWriter(columns, 2 * PART_BYTES)
    this.stream = zipped ? createGzip({ level: 1 }) : new PassThrough()
    this.written = stored.put(this.stream).catch((thrown: unknown) => {
      this.failed = { thrown }
      this.stream.destroy()
    })
    this.stream.on('error', () => {}) // why it ended is told by whoever reads it
  }

  get path(): string {
    return this.stored.path
  }

  async put(rows: Iterable<PackedRow>): Promise<void> {
    for (const row of rows) {
      this.writer.row(row)
      this.rows++
      if (this.writer.length >= PART_BYTES) await this.write(this.writer.take())
    }
  }

  async finish(): Promise<DataFile> {
    await this.write(this.writer.take())
    this.stream.end()
    await this.written
    if (this.failed) throw this.failed.thrown
    return this.stored.told(this.rows)
  }

  async abort(): Promise<void> {
    this.stream.destroy()
    await this.written
    await this.stored.remove()
  }

  private async write(part: Uint8Array): Promise<void> {
    this.bytes += part.length
    if (!this.failed && !this.stream.write(part)) {
      const ended = new AbortController()
      await Promise.race([once(this.stream, 'drain', { signal: ended.signal }), this.written]).catch(() => {})
      ended.abort()
    }
    if (this.failed) throw this.failed.thrown
  }
}

/** With the names of the columns before them. */
class CsvLines {
  private readonly writer = new CsvWriter(2 * PART_BYTES)
  private head: string

  constructor(columns: readonly Column[]) {
    this.head = csvLine(columns.map(({ name }) => name))
  }

  get length(): number {
    return this.writer.length
  }

  row(row: PackedRow): void {
    this.writer.row(row)
    this.writer.endLine('')
  }

  take(): Uint8Array {
    const { head } = this
    this.head = ''
    return head === '' ? this.writer.take() : Buffer.concat([Buffer.from(head), this.writer.take()])
  }
}

/** Rows are put aside as CSV; DuckDB makes of them what is stored. */
class ParquetFile implements OpenDataFile {
  private rows = 0
  private readonly stored: StoredFile
  private readonly writer = new CsvWriter(2 * PART_BYTES)
  private readonly making: MakingParquet

  constructor(stored: StoredFile, making: MakingParquet) {
    this.stored = stored
    this.making = making
  }

  get path(): string {
    return this.stored.path
  }

  get bytes(): number {
    return this.making.bytes
  }

  async put(rows: Iterable<PackedRow>): Promise<void> {
    for (const row of rows) {
      this.writer.row(row)
      this.writer.endLine('')
      this.rows++
      if (this.writer.length >= PART_BYTES) await this.making.csv([this.writer.take()])
    }
  }

  async finish(): Promise<DataFile> {
    await this.making.csv([this.writer.take()])
    await this.making.finish(body => this.stored.put(body))
    return this.stored.told(this.rows)
  }

  async abort(): Promise<void> {
    await this.making.abort()
    await this.stored.remove()
  }
}
