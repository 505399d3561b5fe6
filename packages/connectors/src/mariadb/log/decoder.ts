/** Events of the binary log, into a sink. */
import { Failure } from '@tide/core/failure'
import { printBinlog } from '@tide/core/position/binlog'
import { datasetId, printName, type DatasetName, type Field } from '@tide/core/records/dataset'
import type { LoggedRelation } from '@tide/core/records/relation'
import { encodeRow } from '@tide/core/records/tuple'
import type { Value } from '@tide/core/records/value'
import type { LogSink } from '../../contract.ts'
import type { Decode } from './charsets.ts'
import { EVENT, HEADER, lengthEncoded, readHeader, readQuery, readTableMap, type TableMap } from './events.ts'
import { schemaChange } from './statements.ts'
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

export class BinlogDecoder {
  private readonly sink: LogSink
  private readonly wanted: Map<string, DatasetName>
  private readonly charsets: ReadonlyMap<number, Decode>
  private readonly fields = new Map<string, Field[]>()
  /** By the number of the table map in force. */
  private readonly tables = new Map<number, KnownTable | null>()
  /** The columns of each table, as last told. */
  private readonly described = new Map<string, LoggedRelation['columns']>()
  private file: string
  private gtid: string
  private offset: number
  private transaction: { open: boolean; start: number; at: number; id: string } | undefined

  constructor(
    sink: LogSink,
    tables: readonly DatasetName[],
    charsets: ReadonlyMap<number, Decode>,
    from: { file: string; offset: number; gtid: string },
  ) {
    this.sink = sink
    this.wanted = new Map(tables.map(table => [datasetId(table), table]))
    this.charsets = charsets
    this.file = from.file
    this.offset = from.offset
    this.gtid = from.gtid
  }

  /** Where everything before has been given; undefined inside a transaction. */
  get position(): { file: string; offset: number; printed: string } | undefined {
    if (this.transaction) return undefined
    return { file: this.file, offset: this.offset, printed: this.print(this.offset) }
  }

  /** Tells what columns a table has, as the catalogue has them now. */
  know(table: DatasetName, fields: Field[]): void {
    this.fields.set(datasetId(table), fields)
  }

  /** Takes an event; gives back a table that must be made known first. */
  take(event: Buffer): UnknownTable | undefined {
    const { type, end, size, timestamp } = readHeader(event)
    switch (type) {
      case EVENT.rotate:
        this.file = event.toString('utf8', HEADER + 8)
        this.offset = Number(event.readBigUInt64LE(HEADER))
        this.tables.clear()
        return undefined
      case EVENT.heartbeat:
        return undefined
      case EVENT.gtid: {
        const sequence = event.readBigUInt64LE(HEADER)
        const domain = event.readUInt32LE(HEADER + 8)
        const alone = (event[HEADER + 12]! & 1) === 1
        const id = `${domain}-${event.readUInt32LE(5)}-${sequence}`
        this.gtid = id
        if (!alone) this.transaction = { open: false, start: end - size, at: timestamp * 1_000_000, id }
        break
      }
      case EVENT.query:
        this.query(event, end - size, timestamp)
        break
      case EVENT.xid:
        this.commit(end)
        break
      case EVENT.tableMap: {
        const unknown = this.tableMap(readTableMap(event))
        if (unknown) return unknown
        break
      }
      case EVENT.writeRows1:
      case EVENT.writeRows2:
      case EVENT.updateRows1:
      case EVENT.updateRows2:
      case EVENT.deleteRows1:
      case EVENT.deleteRows2:
        this.rows(event, type)
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

  private tableMap(map: TableMap): UnknownTable | undefined {
    const table = this.wanted.get(datasetId(map))
    if (!table) return void this.tables.set(map.id, null)
    if (this.tables.has(map.id)) return undefined
    const fields = this.fields.get(datasetId(table))
    if (!fields) return { table }
    // It is asked for again with the next number, which the table gets when it changes.
    this.fields.delete(datasetId(table))
    const columns = map.columns.map((column): MappedColumn => {
      const field = fields.find(({ name }) => name === column.name)
      const text = field?.type.kind === 'utf8'
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
    while (at < event.length) {
      const [row, end] = readRow(event, at, first, known)
      at = end
      if (updates) {
        const [changed, behind] = readRow(event, at, after, known)
        at = behind
        this.sink.update(known.id, encodeRow(row), encodeRow(changed))
      } else if (type === EVENT.deleteRows1 || type === EVENT.deleteRows2)
        this.sink.remove(known.id, encodeRow(row))
      else this.sink.insert(known.id, encodeRow(row))
    }
  }

  private query(event: Buffer, start: number, timestamp: number): void {
    const { sql, schema } = readQuery(event)
    const word = /^\s*(\w+)/.exec(sql)?.[1]?.toUpperCase()
    const { end } = readHeader(event)
    if (word === 'BEGIN' || word === 'SAVEPOINT') return
    if (word === 'COMMIT' || word === 'XA') return this.commit(end)
    if (word === 'ROLLBACK') return // of a savepoint; what was rolled back whole is not in the log
    if (['INSERT', 'UPDATE', 'DELETE', 'REPLACE', 'LOAD'].includes(word ?? '')) {
      throw new Failure(
        'structural',
        `The source’s log tells a statement instead of its rows: ${sql.slice(0, 80)}.`,
        'Set binlog_format = ROW at the source, also for that session, and start the pipelines on it again.',
      )
    }
    const change = schemaChange(sql, schema, [...this.wanted.values()])
    if (!change) return
    this.transaction = {
      open: false,
      start,
      at: timestamp * 1_000_000,
      id: this.gtid || `${this.file}:${start}`,
    }
    for (const table of change.tables) {
      const id = -1 - [...this.wanted.keys()].indexOf(datasetId(table))
      const columns = change.kind === 'truncated' ? this.described.get(datasetId(table)) : []
      this.sink.relation({ id, dataset: table, columns: columns ?? [] })
      this.begin()
      this.sink.truncate(id)
    }
    this.commit(end)
  }

  /** Only a transaction that has something for us gets into the journal. */
  private begin(): void {
    const { transaction } = this
    if (!transaction || transaction.open) return
    transaction.open = true
    this.sink.begin(this.print(transaction.start), transaction.at, transaction.id)
  }

  private commit(end: number): void {
    const open = this.transaction?.open
    this.transaction = undefined
    if (open) this.sink.commit(this.print(end))
  }

  private print(offset: number): string {
    return printBinlog({ file: this.file, offset, gtid: this.gtid })
  }
}

/** A row that begins at `at`, with the columns that the bitmap says are there; the others were not sent. */
function readRow(
  event: Buffer,
  at: number,
  present: Buffer,
  { columns, told }: KnownTable,
): [Value[], number] {
  const has = (bitmap: Buffer, i: number) => (bitmap[i >> 3]! >> (i & 7)) & 1
  const there = columns.filter((_, i) => has(present, i)).length
  const nulls = event.subarray(at, at + ((there + 7) >> 3))
  const reader = new ValueReader(event, at + nulls.length)
  const row: Value[] = []
  let place = 0
  columns.forEach((column, i) => {
    let value: Value
    if (has(present, i)) value = has(nulls, place++) ? null : reader.read(column)
    if (told[i]) row.push(value)
  })
  return [row, reader.at]
}
