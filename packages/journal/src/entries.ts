/** What a frame holds: entries, one after another, each beginning with a letter. */
import type { LoggedRelation } from '@tide/core/records/relation'
import { rowEnd } from '@tide/core/records/tuple'

const [RELATION, BEGIN, INSERT, UPDATE, UPDATE_WITH_BEFORE, DELETE, TRUNCATE, COMMIT] =
  Buffer.from('RBIUODTC')

/** Entries on their way into a frame. */
export class EntryBuffer {
  private bytes = Buffer.allocUnsafe(64 * 1024)
  length = 0

  relation(relation: LoggedRelation): void {
    const text = Buffer.from(JSON.stringify(relation))
    this.room(5 + text.length)
    this.letter(RELATION!)
    this.number(text.length)
    this.copy(text)
  }

  begin(start: string, at: number, id: string): void {
    const [place, name] = [Buffer.from(start), Buffer.from(id)]
    this.room(13 + place.length + name.length)
    this.letter(BEGIN!)
    this.length = this.bytes.writeDoubleBE(at, this.length)
    this.length = this.bytes.writeUInt16BE(place.length, this.length)
    this.copy(place)
    this.length = this.bytes.writeUInt16BE(name.length, this.length)
    this.copy(name)
  }

  insert(relation: number, after: Uint8Array): void {
    this.change(INSERT!, relation, after)
  }

  update(relation: number, before: Uint8Array | null, after: Uint8Array): void {
    if (!before) return this.change(UPDATE!, relation, after)
    this.change(UPDATE_WITH_BEFORE!, relation, before)
    this.room(after.length)
    this.copy(after)
  }

  remove(relation: number, before: Uint8Array): void {
    this.change(DELETE!, relation, before)
  }

  truncate(relation: number): void {
    this.room(5)
    this.letter(TRUNCATE!)
    this.number(relation)
  }

  commit(end: string): void {
    const place = Buffer.from(end)
    this.room(3 + place.length)
    this.letter(COMMIT!)
    this.length = this.bytes.writeUInt16BE(place.length, this.length)
    this.copy(place)
  }

  /** The first `length` bytes as a copy; the rest stays. */
  take(length: number): Buffer {
    const taken = Buffer.from(this.bytes.subarray(0, length))
    this.bytes.copyWithin(0, length, this.length)
    this.length -= length
    return taken
  }

  private change(letter: number, relation: number, row: Uint8Array): void {
    this.room(5 + row.length)
    this.letter(letter)
    this.number(relation)
    this.copy(row)
  }

  private room(size: number): void {
    if (this.length + size <= this.bytes.length) return
    const larger = Buffer.allocUnsafe(Math.max(this.bytes.length * 2, this.length + size))
    this.bytes.copy(larger, 0, 0, this.length)
    this.bytes = larger
  }

  private letter(letter: number): void {
    this.bytes[this.length++] = letter
  }

  private number(value: number): void {
    this.length = this.bytes.writeUInt32BE(value, this.length)
  }

  private copy(part: Uint8Array): void {
    this.bytes.set(part, this.length)
    this.length += part.length
  }
}

/** What `EntryCursor.next` stands on. */
export type EntryKind = 'relation' | 'begin' | 'insert' | 'update' | 'delete' | 'truncate' | 'commit'

/** Goes through entries one by one without copying them. Its fields speak of the entry it stands on. */
export class EntryCursor {
  readonly bytes: Buffer
  relation = 0
  /** Where in `bytes` a row begins; -1: there is none. */
  before = -1
  after = -1
  private at = 0
  private start = 0

  constructor(entries: Buffer) {
    this.bytes = entries
  }

  /** Moves to the next entry; `undefined` at the end. */
  next(): EntryKind | undefined {
    if (this.at >= this.bytes.length) return undefined
    this.start = this.at
    const letter = this.bytes[this.at++]
    this.before = this.after = -1
    switch (letter) {
      case INSERT:
        this.relation = this.number()
        this.after = this.row()
        return 'insert'
      case UPDATE:
        this.relation = this.number()
        this.after = this.row()
        return 'update'
      case UPDATE_WITH_BEFORE:
        this.relation = this.number()
        this.before = this.row()
        this.after = this.row()
        return 'update'
      case DELETE:
        this.relation = this.number()
        this.before = this.row()
        return 'delete'
      case TRUNCATE:
        this.relation = this.number()
        return 'truncate'
      case COMMIT:
        this.at += 2 + this.bytes.readUInt16BE(this.at)
        return 'commit'
      case BEGIN: {
        this.at += 8
        this.at += 2 + this.bytes.readUInt16BE(this.at)
        this.at += 2 + this.bytes.readUInt16BE(this.at)
        return 'begin'
      }
      case RELATION:
        this.at += 4 + this.bytes.readUInt32BE(this.at)
        return 'relation'
      default:
        throw new Error(`a journal entry begins with ${letter}`)
    }
  }

  /** The next entry ends a transaction. */
  get beforeCommit(): boolean {
    return this.bytes[this.at] === COMMIT
  }

  /** Bytes gone through. */
  get place(): number {
    return this.at
  }

  get described(): LoggedRelation {
    const at = this.start + 1
    return JSON.parse(this.bytes.toString('utf8', at + 4, at + 4 + this.bytes.readUInt32BE(at)))
  }

  /** The end position of the commit it stands on. */
  get committed(): string {
    const at = this.start + 1
    return this.bytes.toString('utf8', at + 2, at + 2 + this.bytes.readUInt16BE(at))
  }

  get begun(): { start: string; at: number; id: string } {
    let at = this.start + 1
    const time = this.bytes.readDoubleBE(at)
    at += 8
    const length = this.bytes.readUInt16BE(at)
    const start = this.bytes.toString('utf8', at + 2, at + 2 + length)
    at += 2 + length
    const id = this.bytes.toString('utf8', at + 2, at + 2 + this.bytes.readUInt16BE(at))
    return { start, at: time, id }
  }

  private number(): number {
    const value = this.bytes.readUInt32BE(this.at)
    this.at += 4
    return value
  }

  private row(): number {
    const start = this.at
    this.at = rowEnd(this.bytes, start)
    return start
  }
}
