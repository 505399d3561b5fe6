/** Events of a binary log. https://mariadb.com/kb/en/replication-protocol/ */

import { columnType, ENUM, SET, STRING } from './column-types.ts'

export interface EventHeader {
  /** Seconds since 1970. */
  timestamp: number
  type: number
  size: number
  /** Where the event ends in its file; 0 for events that are not in it. */
  end: number
  /** Its session had `skip_replication` set. */
  skips: boolean
}

const SKIPS = 0x8000

/** Bytes before an event's body. */
export const HEADER = 19

export const EVENT = {
  query: 2,
  rotate: 4,
  xid: 16,
  beginLoadQuery: 17,
  executeLoadQuery: 18,
  tableMap: 19,
  writeRows1: 23,
  updateRows1: 24,
  deleteRows1: 25,
  heartbeat: 27,
  writeRows2: 30,
  updateRows2: 31,
  deleteRows2: 32,
  xaPrepare: 38,
  gtid: 162,
  queryCompressed: 165,
  rowsCompressedFirst: 166,
  rowsCompressedLast: 171,
} as const

export function readHeader(event: Buffer): EventHeader {
  return {
    timestamp: event.readUInt32LE(0),
    type: event[4]!,
    size: event.readUInt32LE(9),
    end: event.readUInt32LE(13),
    skips: (event.readUInt16LE(17) & SKIPS) !== 0,
  }
}

/** A number in one to nine bytes; the place behind it comes with it. */
export function lengthEncoded(bytes: Buffer, at: number): [value: number, next: number] {
  const first = bytes[at]!
  if (first < 0xfb) return [first, at + 1]
  const size = first === 0xfc ? 2 : first === 0xfd ? 3 : 6
  return [bytes.readUIntLE(at + 1, size), at + 1 + (first === 0xfe ? 8 : size)]
}

export interface GtidEvent {
  id: string
  /** A single statement that commits by itself, such as one that changes a table. */
  alone: boolean
  /** The XA transaction that the events behind it prepare, or commit or roll back. */
  prepares?: string
  completes?: string
}

const [ALONE, GROUP_COMMIT, PREPARES_XA, COMPLETES_XA] = [1, 2, 64, 128]

/** https://mariadb.com/kb/en/gtid_event/ */
export function readGtid(event: Buffer): GtidEvent {
  const flags = event[HEADER + 12]!
  const sequence = event.readBigUInt64LE(HEADER)
  const id = `${event.readUInt32LE(HEADER + 8)}-${event.readUInt32LE(5)}-${sequence}`
  const about = { id, alone: (flags & ALONE) !== 0 }
  if ((flags & (PREPARES_XA | COMPLETES_XA)) === 0) return about
  const at = HEADER + ((flags & GROUP_COMMIT) !== 0 ? 21 : 13)
  const [global, branch] = [event[at + 4]!, event[at + 5]!]
  const names = event.subarray(at + 6, at + 6 + global + branch)
  const xid = `${event.readInt32LE(at)}.${names.toString('hex', 0, global)}.${names.toString('hex', global)}`
  return { ...about, ...((flags & PREPARES_XA) !== 0 ? { prepares: xid } : { completes: xid }) }
}

export interface QueryEvent {
  schema: string
  sql: string
}

export function readQuery(event: Buffer): QueryEvent {
  const schemaLength = event[HEADER + 8]!
  const statusLength = event.readUInt16LE(HEADER + 11)
  const schemaAt = HEADER + 13 + statusLength
  return {
    schema: event.toString('utf8', schemaAt, schemaAt + schemaLength),
    sql: event.toString('utf8', schemaAt + schemaLength + 1),
  }
}

export interface TableMap {
  id: number
  namespace: string
  name: string
  columns: {
    type: number
    meta: number
    unsigned: boolean
    /** The number of its collation, of columns that hold text. */
    collation: number | undefined
    name: string | undefined
    labels: Buffer[]
  }[]
}

export function readTableMap(event: Buffer): TableMap {
  const id = event.readUIntLE(HEADER, 6)
  let at = HEADER + 8
  const text = () => {
    const length = event[at]!
    const value = event.toString('utf8', at + 1, at + 1 + length)
    at += length + 2
    return value
  }
  const namespace = text()
  const name = text()
  const [count, typesAt] = lengthEncoded(event, at)
  const types = event.subarray(typesAt, typesAt + count)
  const [, metaAt] = lengthEncoded(event, typesAt + count)
  at = metaAt
  const columns: TableMap['columns'] = [...types].map(type => {
    let meta = 0
    const form = columnType(type).metadata
    if (form === 'byte') meta = event[at++]!
    else if (form === 'little') meta = event.readUInt16LE((at += 2) - 2)
    else if (form === 'big') meta = event.readUInt16BE((at += 2) - 2)
    return { type, meta, unsigned: false, collation: undefined, name: undefined, labels: [] }
  })
  at += (count + 7) >> 3 // which columns may be null
  while (at < event.length) {
    const field = event[at]!
    const [length, start] = lengthEncoded(event, at + 1)
    readOptional(field, event.subarray(start, start + length), columns)
    at = start + length
  }
  return { id, namespace, name, columns }
}

/** Metadata that is there with `binlog_row_metadata = FULL`. */
function readOptional(field: number, bytes: Buffer, columns: TableMap['columns']): void {
  const real = ({ type, meta }: TableMap['columns'][number]) => (type === STRING ? meta >> 8 : type)
  const isLabelled = (column: TableMap['columns'][number]) => [ENUM, SET].includes(real(column))
  const isText = (column: TableMap['columns'][number]) => columnType(column.type).text && !isLabelled(column)
  const numbers = () => {
    const values: number[] = []
    for (let at = 0; at < bytes.length;) {
      const [value, next] = lengthEncoded(bytes, at)
      values.push(value)
      at = next
    }
    return values
  }
  switch (field) {
    case 1:
      return columns
        .filter(({ type }) => columnType(type).numeric)
        .forEach((column, i) => (column.unsigned = ((bytes[i >> 3]! >> (7 - (i & 7))) & 1) === 1))
    case 2:
    case 10: {
      const of = columns.filter(field === 2 ? isText : isLabelled)
      const [standard, ...others] = numbers()
      for (const column of of) column.collation = standard
      for (let i = 0; i < others.length; i += 2) of[others[i]!]!.collation = others[i + 1]
      return
    }
    case 3:
    case 11: {
      const of = columns.filter(field === 3 ? isText : isLabelled)
      return numbers().forEach((collation, i) => (of[i]!.collation = collation))
    }
    case 4: {
      let at = 0
      for (const column of columns) {
        const [length, start] = lengthEncoded(bytes, at)
        column.name = bytes.toString('utf8', start, start + length)
        at = start + length
      }
      return
    }
    case 5:
    case 6: {
      let at = 0
      for (const column of columns.filter(column => real(column) === (field === 5 ? 248 : 247))) {
        const [count, next] = lengthEncoded(bytes, at)
        at = next
        for (let i = 0; i < count; i++) {
          const [length, start] = lengthEncoded(bytes, at)
          column.labels.push(bytes.subarray(start, start + length))
          at = start + length
        }
      }
    }
  }
}
