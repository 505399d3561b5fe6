/** Files as a source: what comes and what changes in folders, told as changes of rows. */
import { Failure } from '@tide/core/failure'
import { compareFilePlaces, parseFilePlace, printFilePlace } from '@tide/core/position/files'
import type { Position } from '@tide/core/position/position'
import { csvLine } from '@tide/core/records/csv'
import type { DatasetName } from '@tide/core/records/dataset'
import { encodeRow } from '@tide/core/records/tuple'
import type { KeyedTable } from '../../contract/records.ts'
import type { CopyRange, CopyView, LogReading, LogSide, LogSink } from '../../contract/source.ts'
import { journalDefaults, retentionOf } from '../../journal-settings.ts'
import type { ObjectStore, StoredFile } from '../object-store.ts'
import { keyOfLine, type FileTable, type FileTables } from './file-tables.ts'
import { LineCounts } from './line-counts.ts'
import { setTimeout as sleep } from 'node:timers/promises'

const KIND = 'files'
const EVERY_MS = 5_000
/** A file that was written in the last so many milliseconds may still be written. */
const SETTLE_MS = 3_000

export function filesSide(store: ObjectStore, tables: FileTables): LogSide {
  const inspect = async (names: readonly DatasetName[]) => {
    for (const name of names) await tables.of(name)
  }
  const now = async (names: readonly DatasetName[]): Promise<Position> => {
    await tables.keepTypes(names)
    return { kind: KIND, incarnation: store.where, at: printFilePlace({ at: horizon(), path: '' }) }
  }
  return {
    retention: retentionOf(journalDefaults),
    selectsTables: true,
    lateMs: EVERY_MS + SETTLE_MS,
    captureNote: `Nothing is installed; every ${EVERY_MS / 1000} seconds it is looked for files that have come or were written anew, once they have lain still for ${SETTLE_MS / 1000}. A file that is written anew takes the place of what it was; one that is taken away leaves its rows. New rows are counted as updated. How many lines were told, and of what types they are, is kept below _constant_tide.`,
    captureStatements: async () => [],
    open: (_reader, names) => now(names),
    extend: async (_reader, names) => ({ position: await now(names), added: [] }),
    inspectHistory: async (_reader, { incarnation }) => {
      if (incarnation === store.where) return
      throw new Failure(
        'structural',
        'The source is another folder than the one that was copied.',
        'Start again: the tables are copied anew.',
      )
    },
    inspectTables: (_reader, names) => inspect(names),
    close: async reader => {
      await tables.forgetTypes()
      await new LineCounts(store, reader, 'follow').forget()
      await new LineCounts(store, reader, 'copy').forget()
    },
    follow: (reader, reading, sink, signal) =>
      new Following(store, tables, reader, reading, sink).run(signal),
    view: reader => Promise.resolve(viewOf(tables, new LineCounts(store, reader, 'copy'))),
  }
}

function horizon(): string {
  return new Date(Date.now() - SETTLE_MS).toISOString()
}

/** The files as they are when each is read; a range is one of them. */
function viewOf(tables: FileTables, counts: LineCounts): CopyView {
  return {
    position: null,
    readers: 2,
    async *copy({ dataset, columns }: KeyedTable, after, signal) {
      const table = await tables.of(dataset)
      const files = table.files.filter(({ path }) => after === null || compareBytes(path, after) > 0)
      if (files.length === 0) yield { csv: [], upTo: null }
      for (const [i, file] of files.entries()) {
        if (signal.aborted) return
        const csv = linesOf(tables, table, file, columns, counts)
        const range: CopyRange = { csv, upTo: i === files.length - 1 ? null : file.path }
        yield range
      }
    },
    close: () => counts.save(),
  }
}

const PART_LINES = 2_000

async function* linesOf(
  tables: FileTables,
  table: FileTable,
  file: StoredFile,
  columns: KeyedTable['columns'],
  counts: LineCounts,
): AsyncGenerator<Uint8Array> {
  let lines: string[] = []
  let last = 0
  for await (const row of tables.rows(table, file, [...columns, LINE])) {
    last = Math.max(last, Number(row.at(-1)))
    lines.push(csvLine(row.slice(0, -1)))
    if (lines.length < PART_LINES) continue
    yield Buffer.from(lines.join(''))
    lines = []
  }
  if (lines.length > 0) yield Buffer.from(lines.join(''))
  await counts.note(file.path, last)
}

const LINE = { name: '_line', type: { kind: 'int', bits: 64, signed: true }, nativeType: 'int64' } as const

const compareBytes = (a: string, b: string) => Buffer.compare(Buffer.from(a), Buffer.from(b))

/** A file, and whose it is. */
interface Due {
  table: FileTable
  index: number
  file: StoredFile
  place: string
}

class Following {
  private readonly tables: FileTables
  private readonly names: readonly DatasetName[]
  private readonly stops: readonly string[]
  private readonly sink: LogSink
  private readonly told: LineCounts
  private readonly counts: (what: 'copy' | 'follow') => LineCounts
  private readonly described = new Map<number, string>()
  private place: string

  constructor(store: ObjectStore, tables: FileTables, reader: string, reading: LogReading, sink: LogSink) {
    this.tables = tables
    this.names = reading.tables
    this.stops = reading.stops
    this.place = reading.from.at
    this.sink = sink
    this.counts = what => new LineCounts(store, reader, what)
    this.told = this.counts('follow')
  }

  async run(signal: AbortSignal): Promise<void> {
    while (!signal.aborted) {
      await this.round(signal)
      await sleep(EVERY_MS, undefined, { signal }).catch(() => {})
    }
  }

  /** Everything that has lain still up to one moment. */
  private async round(signal: AbortSignal): Promise<void> {
    const upTo = horizon()
    const end = printFilePlace({ at: upTo, path: '' })
    this.sink.heard(Date.now() * 1000, end)
    for (const due of await this.due(end)) {
      if (signal.aborted) return
      if (this.sink.full) await this.sink.room()
      await this.tell(due)
    }
    if (compareFilePlaces(this.place, end) !== 'before') return
    this.place = end
    this.sink.reached(end, Date.parse(upTo) * 1000)
  }

  private async due(end: string): Promise<Due[]> {
    const due: Due[] = []
    for (const [index, name] of this.names.entries()) {
      const table = await this.tables.of(name)
      this.describe(table, index)
      for (const file of table.files) {
        const place = printFilePlace({ at: file.at, path: file.path })
        if (compareFilePlaces(place, this.place) === 'after' && compareFilePlaces(place, end) === 'before')
          due.push({ table, index, file, place })
      }
    }
    return due.sort((a, b) => (compareFilePlaces(a.place, b.place) === 'before' ? -1 : 1))
  }

  /** What is new in a file is told before its rows, so that nobody takes them for whole. */
  private describe({ dataset, fields }: FileTable, index: number): void {
    const columns = fields.map(({ name, nativeType }) => ({ name, nativeType }))
    const text = JSON.stringify(columns)
    if (this.described.get(index) === text) return
    this.described.set(index, text)
    this.sink.relation({ id: index + 1, dataset, columns, identity: ['_file', '_line'] })
  }

  /** A file is a transaction. */
  private async tell({ table, index, file, place }: Due): Promise<void> {
    const { sink, tables } = this
    // Whoever begins at a place that was given out must not miss what begins before it.
    for (const stop of this.stops)
      if (compareFilePlaces(stop, this.place) === 'after' && compareFilePlaces(stop, place) !== 'after')
        this.place = stop
    const name = file.path.slice(table.folder.length)
    // A copy goes on beside this, and tells of its own.
    const before = Math.max(await this.told.of(file.path), await this.counts('copy').of(file.path))
    const there = new Uint8Array(before + 1)
    let [last, told] = [0, 0]
    sink.begin(this.place, Date.parse(parseFilePlace(place).at) * 1000, place)
    for await (const row of tables.rows(table, file, table.fields)) {
      last = Number(row[1])
      if (last <= before) there[last] = 1
      // A copy may have read it, too.
      sink.update(index + 1, null, encodeRow(row))
      if (++told % PART_LINES === 0 && sink.full) await sink.room()
    }
    for (let line = 1; line <= before; line++) {
      if (there[line]) continue
      const key = keyOfLine(name, line)
      sink.remove(index + 1, encodeRow(table.fields.map((_, i) => (i < 2 ? key[i]! : undefined))))
    }
    await this.told.note(file.path, last)
    await this.told.save()
    sink.commit(place)
    this.place = place
  }
}
