/**
 * Messages of logical replication as `pgoutput` sends them (protocol version 1), into a sink. Rows are handed on as
 * the bytes they came in. https://www.postgresql.org/docs/current/protocol-logicalrep-message-formats.html
 */
import { printLsn } from '@tide/core/position/lsn'
import { NULL, rowEnd, TEXT, UNSENT } from '@tide/core/records/tuple'
import type { LogSink } from '../../contract/source.ts'

/** A message with this prefix says that nobody who follows is told what its transaction deletes behind it. */
export const UNHEARD = 'constant_tide.unheard'

/** Microseconds between 1970 and 2000, where PostgreSQL's clock begins. */
export const EPOCH_2000 = 946_684_800_000_000

/** A column as a Relation message describes it. */
export interface SentColumn {
  name: string
  typeOid: number
  typeModifier: number
  inIdentity: boolean
}

export interface SentRelation {
  oid: number
  namespace: string
  name: string
  columns: SentColumn[]
}

/** What the catalogue calls a type, by its number and modifier; undefined when that is not known yet. */
export type TypeOf = (oid: number, modifier: number) => string | undefined

export class PgoutputDecoder {
  private readonly sink: LogSink
  private readonly typeOf: TypeOf
  /** By column: not part of the replica identity, so that an old key has nothing to say of it. */
  private readonly outsideIdentity = new Map<number, boolean[]>()
  /** What the present transaction deletes is not told. */
  private unheard = false

  constructor(sink: LogSink, typeOf: TypeOf) {
    this.sink = sink
    this.typeOf = typeOf
  }

  /** The relation when the message describes one with types that are not known yet; it must be taken again then. */
  take(message: Buffer): SentRelation | undefined {
    switch (message[0]) {
      case 0x49: // Insert
        return this.insert(message)
      case 0x55: // Update
        return this.update(message)
      case 0x44: // Delete
        return this.unheard ? undefined : this.remove(message)
      case 0x4d: // Message
        this.unheard ||= message.toString('utf8', 10, message.indexOf(0, 10)) === UNHEARD
        return undefined
      case 0x42: // Begin
        this.unheard = false
        this.sink.begin(lsnAt(message, 1), timeAt(message, 9), String(message.readUInt32BE(17)))
        return undefined
      case 0x43: // Commit
        this.sink.commit(lsnAt(message, 10))
        return undefined
      case 0x52:
        return this.relation(readRelation(message))
      case 0x54: // Truncate
        for (let i = 0; i < message.readInt32BE(1); i++) this.sink.truncate(message.readUInt32BE(6 + i * 4))
    }
    return undefined // Type and Origin tell nothing that we need
  }

  private relation(relation: SentRelation): SentRelation | undefined {
    const types = relation.columns.map(({ typeOid, typeModifier }) => this.typeOf(typeOid, typeModifier))
    if (types.includes(undefined)) return relation
    const { oid, namespace, name, columns } = relation
    this.outsideIdentity.set(
      oid,
      columns.map(({ inIdentity }) => !inIdentity),
    )
    this.sink.relation({
      id: oid,
      dataset: { namespace, name },
      columns: columns.map((column, i) => ({ name: column.name, nativeType: types[i]! })),
      identity: columns.flatMap(({ name, inIdentity }) => (inIdentity ? [name] : [])),
    })
    return undefined
  }

  private insert(message: Buffer): undefined {
    const oid = message.readUInt32BE(1)
    this.sink.insert(oid, message.subarray(6))
  }

  private update(message: Buffer): undefined {
    const oid = message.readUInt32BE(1)
    const letter = message[5]
    if (letter === 0x4e) return this.sink.update(oid, null, message.subarray(6)) as undefined
    const end = rowEnd(message, 6)
    const before = this.before(message.subarray(6, end), oid, letter)
    this.sink.update(oid, before, message.subarray(end + 1))
  }

  private remove(message: Buffer): undefined {
    const oid = message.readUInt32BE(1)
    this.sink.remove(oid, this.before(message.subarray(6), oid, message[5]))
  }

  /** Of an old key (`K`) only the identity was sent; the nulls beside it say nothing. */
  private before(row: Buffer, oid: number, letter: number | undefined): Uint8Array {
    if (letter === 0x4b) {
      let at = 2
      for (const outside of this.outsideIdentity.get(oid)!) {
        if (row[at] === TEXT) at += 5 + row.readUInt32BE(at + 1)
        else {
          if (outside && row[at] === NULL) row[at] = UNSENT
          at++
        }
      }
    }
    return row
  }
}

function readRelation(message: Buffer): SentRelation {
  const oid = message.readUInt32BE(1)
  let at = 5
  const text = () => {
    const end = message.indexOf(0, at)
    const value = message.toString('utf8', at, end)
    at = end + 1
    return value
  }
  const namespace = text() || 'pg_catalog'
  const name = text()
  const count = message.readUInt16BE(at + 1)
  at += 3
  const columns: SentColumn[] = []
  for (let i = 0; i < count; i++) {
    const inIdentity = (message[at++]! & 1) === 1
    const columnName = text()
    columns.push({
      name: columnName,
      typeOid: message.readUInt32BE(at),
      typeModifier: message.readInt32BE(at + 4),
      inIdentity,
    })
    at += 8
  }
  return { oid, namespace, name, columns }
}

export function lsnAt(message: Buffer, at: number): string {
  return printLsn(message.readBigUInt64BE(at))
}

/** Microseconds since 1970. */
export function timeAt(message: Buffer, at: number): number {
  return Number(message.readBigInt64BE(at)) + EPOCH_2000
}
