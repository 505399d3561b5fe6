/** Events of the binary log, into a sink. */
import { Failure } from '@tide/core/failure'
import { printBinlog, type BinlogPlace, type PreparedPlace } from '@tide/core/position/binlog'
import { datasetId, printName, type DatasetName, type Field } from '@tide/core/records/dataset'
import { ALTERED, type LoggedRelation } from '@tide/core/records/relation'
import { RowWriter } from '@tide/core/records/tuple'
import type { LogSink } from '../../contract/source.ts'
import type { Decode } from './charsets.ts'
import { columnType } from './column-types.ts'
import {
  EVENT,
  HEADER,
  lengthEncoded,
  readGtid,
  readHeader,
  readQuery,
  readTableMap,
  type TableMap,
} from './events.ts'
import { readStatement, type SchemaChange } from './statements.ts'
import { ValueReader, type MappedColumn } from './values.ts'

interface KnownTable {
  /** Our number for it, that of its first table map. */
  id: number
  columns: MappedColumn[]
  /** Which of the columns are told. */
  told: boolean[]
}

/** A table of which nothing is known yet; its columns must be asked for, and the event taken again. */
export interface UnknownTable {
  table: DatasetName
}

/**
 * A prepared transaction was committed; its rows must be read where it was prepared before anything else is taken.
 * `prepared` is null when that was before the log was followed, somewhere before `committed`.
 */
export interface Replay {
  xid: string
  prepared: { file: string; offset: number } | null
  committed: { file: string; offset: number }
  transaction: Transaction
}

/** `open`: the sink knows of it. */
interface Transaction {
  open: boolean
  start: string | number
  at: number
  id: string
}

export class BinlogDecoder {
  private readonly sink: LogSink
  private readonly wanted: Map<string, DatasetName>
  private readonly charsets: ReadonlyMap<number, Decode>
  private readonly fields = new Map<string, Field[]>()
  /** By the number of the table map in force. */
  private readonly tables = new Map<number, KnownTable | null>()
  private readonly rowWriter = new RowWriter()
  /** The columns of each table, as last told. */
  private readonly described = new Map<string, LoggedRelation['columns']>()
  private file: string
  private gtid: string
  private offset: number
  private transaction: Transaction | undefined
  /** Transactions that were prepared, and where; their rows are read when they are committed. */
  private readonly prepared: Map<string, PreparedPlace>
  /** The prepared transaction that is being passed over. */
  private passing: PreparedPlace | undefined
  /** Whose rows have been given, and whose end is about to be. */
  private readonly replayedXids = new Set<string>()
  private readonly replay: Replay | undefined
  /** The prepared transaction that the present one commits or rolls back. */
  private completes: string | undefined
  /** The transaction to replay has been given whole. */
  replayed = false

  /** `replay`: only that transaction is given, without its end. */
  constructor(
    sink: LogSink,
    tables: readonly DatasetName[],
    charsets: ReadonlyMap<number, Decode>,
    from: BinlogPlace,
    replay?: Replay,
  ) {
    this.sink = sink
    this.wanted = new Map(tables.map(table => [datasetId(table), table]))
    this.charsets = charsets
    this.file = from.file
    this.offset = from.offset
    this.gtid = from.gtid
    this.prepared = new Map(from.prepared.map(place => [place.xid, place]))
    this.replay = replay
  }

  /** Where everything before has been given; undefined inside a transaction. */
  get position(): { file: string; offset: number; printed: string } | undefined {
    if (this.transaction || this.passing) return undefined
    return { file: this.file, offset: this.offset, printed: this.print(this.offset) }
  }

  /** A decoder of the same tables for one prepared transaction. */
  replayer(replay: Replay): BinlogDecoder {
    const from = { ...replay.prepared!, gtid: '', prepared: [] }
    return new BinlogDecoder(this.sink, [...this.wanted.values()], this.charsets, from, replay)
  }

  /** The transaction that `take` gave back has been replayed; the event that committed it is taken again. */
  wasReplayed({ xid }: Replay): void {
    this.prepared.delete(xid)
    this.replayedXids.add(xid)
    // The replay has told of tables under numbers that may be others' here.
    this.tables.clear()
  }

  /** Tells what columns a table has, as the catalogue has them now. */
  know(table: DatasetName, fields: Field[]): void {
    this.fields.set(datasetId(table), fields)
  }

  /** Takes an event; gives back what must be done before it is taken again. */
  take(event: Buffer): UnknownTable | Replay | undefined {
    const { type, end, size, timestamp, skips } = readHeader(event)
    if (this.passing && ![EVENT.rotate, EVENT.gtid, EVENT.xaPrepare].includes(type as 4)) return undefined
    switch (type) {
      case EVENT.rotate:
        this.file = event.toString('utf8', HEADER + 8)
        this.offset = Number(event.readBigUInt64LE(HEADER))
        this.tables.clear()
        return undefined
      case EVENT.heartbeat:
        return undefined
      case EVENT.gtid:
        this.gtidAt(event, end - size, timestamp)
        break
      case EVENT.query: {
        const first = this.query(event, end - size, timestamp)
        if (first) return first
        break
      }
      case EVENT.xid:
        this.commit(end)
        break
      case EVENT.xaPrepare:
        if (this.passing) this.prepared.set(this.passing.xid, this.passing)
        this.passing = undefined
        if (this.replay) this.replayed = this.transaction !== undefined
        break
      case EVENT.executeLoadQuery:
      case EVENT.beginLoadQuery:
        throw statementTold('LOAD DATA')
      case EVENT.tableMap: {
        // It comes before the rows of every statement, and says the same under the same number.
        if (this.tables.has(event.readUIntLE(HEADER, 6))) break
        const unknown = this.tableMap(readTableMap(event))
        if (unknown) return unknown
        break
      }
      case EVENT.writeRows1:
      case EVENT.writeRows2:
      case EVENT.updateRows1:
      case EVENT.updateRows2:
        this.rows(event, type)
        break
      case EVENT.deleteRows1:
      case EVENT.deleteRows2:
        // Of rows that are archived, nobody who follows is told.
        if (!skips) this.rows(event, type)
        break
      case EVENT.queryCompressed:
      default:
        if (type >= EVENT.queryCompressed && type <= EVENT.rowsCompressedLast) {
          throw new Failure(
            'structural',
            'The source compresses its binary log.',
            'Set log_bin_compress = OFF at the source, and start the pipelines on it again.',
          )
        }
    }
    if (end > 0) this.offset = end
    return undefined
  }

  private gtidAt(event: Buffer, start: number, timestamp: number): void {
    const { id, alone, prepares, completes } = readGtid(event)
    const at = timestamp * 1_000_000
    this.gtid = id
    this.passing = this.transaction = undefined
    if (this.replay) {
      if (prepares === this.replay.xid) this.transaction = this.replay.transaction
      else this.passing = { xid: '', file: this.file, offset: start }
    } else if (prepares !== undefined) this.passing = { xid: prepares, file: this.file, offset: start }
    else if (!alone || completes !== undefined) this.transaction = { open: false, start, at, id }
    this.completes = completes
  }

  private tableMap(map: TableMap): UnknownTable | undefined {
    const table = this.wanted.get(datasetId(map))
    if (!table) return void this.tables.set(map.id, null)
    const fields = this.fields.get(datasetId(table))
    if (!fields) return { table }
    // It is asked for again with the next number, which the table gets when it changes.
    this.fields.delete(datasetId(table))
    const columns = map.columns.map((column): MappedColumn => {
      const field = fields.find(({ name }) => name === column.name)
      const text = field?.type.kind === 'utf8' && !field.notCaptured
      const decode = text && column.collation !== undefined ? this.charsets.get(column.collation) : undefined
      if (text && !decode) {
        throw new Failure(
          'structural',
          `${printName(table)}.${field.name}: its character set (collation ${column.collation ?? 'unknown'}) is not known here.`,
          'Leave the table out, or convert the column to utf8mb4.',
        )
      }
      return {
        type: column.type,
        meta: column.meta,
        unsigned: column.unsigned,
        decode,
        labels: column.labels.map(label => (decode ? decode(label) : label.toString('utf8'))),
        uuid: field?.type.kind === 'uuid',
      }
    })
    const told = map.columns.map(column => {
      const field = fields.find(({ name }) => name === column.name)
      return field === undefined || !field.notCaptured
    })
    const unread = map.columns.find((column, i) => told[i] && !columnType(column.type).readable)
    if (unread) {
      throw new Failure(
        'structural',
        `${printName(table)}.${unread.name}: the log tells it in a form that is not read here (type ${unread.type}).`,
        'ALTER TABLE … FORCE turns columns of old servers into the present form; or leave the table out. Then start again.',
      )
    }
    this.tables.set(map.id, { id: map.id, columns, told })
    const described = map.columns.flatMap((column, i) => {
      const field = fields.find(({ name }) => name === column.name)
      // A column that is not there any more has changed; what follows cannot be read as before.
      return told[i]
        ? [{ name: column.name ?? `column ${i + 1}`, nativeType: field?.nativeType ?? 'gone' }]
        : []
    })
    this.described.set(datasetId(table), described)
    this.sink.relation({ id: map.id, dataset: table, columns: described })
    return undefined
  }

  private rows(event: Buffer, type: number): void {
    const known = this.tables.get(event.readUIntLE(HEADER, 6))
    if (!known) return
    const second = type >= EVENT.writeRows2
    let at = HEADER + 8
    if (second) at += event.readUInt16LE(at)
    const [count, next] = lengthEncoded(event, at)
    at = next
    const bitmap = (count + 7) >> 3
    const updates = type === EVENT.updateRows1 || type === EVENT.updateRows2
    const first = event.subarray(at, at + bitmap)
    at += bitmap
    const after = updates ? event.subarray(at, at + bitmap) : first
    if (updates) at += bitmap
    this.begin()
    const { columns } = known
    const [isUpdate, isDelete] = [updates, type === EVENT.deleteRows1 || type === EVENT.deleteRows2]
    const before = shapeOf(known, first)
    const behind = updates ? shapeOf(known, after) : before
    const { rowWriter: out, sink } = this
    const reader = new ValueReader(event, at, out)
    while (reader.at < event.length) {
      out.at = 0
      readRow(event, reader, columns, before, out)
      const middle = out.at
      if (isUpdate) {
        readRow(event, reader, columns, behind, out)
        sink.update(known.id, out.bytes.subarray(0, middle), out.bytes.subarray(middle, out.at))
      } else if (isDelete) sink.remove(known.id, out.bytes.subarray(0, middle))
      else sink.insert(known.id, out.bytes.subarray(0, middle))
    }
  }

  private query(event: Buffer, start: number, timestamp: number): UnknownTable | Replay | undefined {
    const { sql, schema } = readQuery(event)
    const { end } = readHeader(event)
    const statement = readStatement(sql, schema, [...this.wanted.values()])
    switch (statement.kind) {
      case 'control':
        if (/^\s*COMMIT/i.test(sql)) this.commit(end)
        return undefined
      case 'xa rollback':
        this.prepared.delete(this.completes ?? '')
        this.transaction = undefined
        return undefined
      case 'xa commit':
        return this.commitPrepared(start, end)
      case 'temporary':
        return undefined
      case 'rows':
        throw statementTold(sql)
    }
    const { change } = statement
    if (!change) return undefined
    if (change.kind === 'truncated') {
      const unknown = change.tables.find(table => !this.describedNow(table))
      if (unknown) return { table: unknown }
    }
    this.transaction ??= {
      open: false,
      start,
      at: timestamp * 1_000_000,
      id: this.gtid || `${this.file}:${start}`,
    }
    for (const table of change.tables) {
      const id = -1 - [...this.wanted.keys()].indexOf(datasetId(table))
      this.sink.relation({ id, dataset: table, columns: this.columnsAfter(change.kind, table) })
      this.begin()
      this.sink.truncate(id)
    }
    this.commit(end)
  }

  /** Gives back what must be read first, the first time. */
  private commitPrepared(start: number, end: number): Replay | undefined {
    const { completes: xid, transaction } = this
    if (xid === undefined || !transaction) throw new Error('XA COMMIT stands in no transaction')
    if (this.replayedXids.delete(xid)) return void this.commit(end)
    transaction.start = this.print(start)
    return {
      xid,
      prepared: this.prepared.get(xid) ?? null,
      committed: { file: this.file, offset: start },
      transaction,
    }
  }

  /** What readers of the journal are told the table looks like from here on. */
  private columnsAfter(kind: SchemaChange['kind'], table: DatasetName): LoggedRelation['columns'] {
    const described = this.describedNow(table)
    if (kind === 'truncated') return described!
    if (kind === 'replaced') return []
    return (described ?? [{ name: '', nativeType: '' }]).map(({ name }) => ({ name, nativeType: ALTERED }))
  }

  private describedNow(table: DatasetName): LoggedRelation['columns'] | undefined {
    const known = this.described.get(datasetId(table))
    const fields = known ? undefined : this.fields.get(datasetId(table))
    return known ?? fields?.filter(({ notCaptured }) => !notCaptured)
  }

  /** Only a transaction that has something for us gets into the journal. */
  private begin(): void {
    const { transaction } = this
    if (!transaction || transaction.open) return
    transaction.open = true
    const { start } = transaction
    this.sink.begin(typeof start === 'number' ? this.print(start) : start, transaction.at, transaction.id)
  }

  private commit(end: number): void {
    const open = this.transaction?.open
    this.transaction = undefined
    if (open) this.sink.commit(this.print(end))
  }

  private print(offset: number): string {
    const { file, gtid, prepared } = this
    return printBinlog({ file, offset, gtid, prepared: prepared.size === 0 ? NONE : [...prepared.values()] })
  }
}

const NONE: PreparedPlace[] = []

/** Which rows a statement changes depends on what it finds where it is carried out again. */
function statementTold(sql: string): Failure {
  return new Failure(
    'structural',
    `The source’s log tells a statement instead of its rows: ${sql.slice(0, 80)}.`,
    'Set binlog_format = ROW at the source, also for that session, and start the pipelines on it again: their tables are copied anew.',
  )
}

/** What the rows of one event have of each column. */
interface RowShape {
  /** Which of the columns are there; the others were not sent. */
  there: boolean[]
  told: boolean[]
  /** Bytes that say which of those there are null. */
  nullBytes: number
  /** How many columns are told. */
  width: number
}

function shapeOf({ columns, told }: KnownTable, present: Buffer): RowShape {
  const there = columns.map((_, i) => ((present[i >> 3]! >> (i & 7)) & 1) === 1)
  const count = (of: boolean[]) => of.filter(Boolean).length
  return { there, told, nullBytes: (count(there) + 7) >> 3, width: count(told) }
}

/** Writes the row that begins where the reader is, and leaves the reader behind it. */
function readRow(
  event: Buffer,
  reader: ValueReader,
  columns: readonly MappedColumn[],
  { there, told, nullBytes, width }: RowShape,
  out: RowWriter,
): void {
  const nulls = reader.at
  reader.at += nullBytes
  out.begin(width)
  let place = 0
  for (let i = 0; i < columns.length; i++) {
    const before = out.at
    if (!there[i]) out.unsent()
    else if ((event[nulls + (place >> 3)]! >> (place++ & 7)) & 1) out.null()
    else reader.read(columns[i]!)
    if (!told[i]) out.at = before
  }
}
