import { fieldsOf } from '../csv-fields.ts'

const [QUOTE, NEWLINE] = Buffer.from('"\n')

const NOTHING = Buffer.alloc(0)
/** Of a record that is too long, to tell which one it is. */
const HEAD_BYTES = 4096

export class RecordTooLong extends Error {
  /** Those in front of the one that is too long, or of the first bytes. */
  readonly fields: readonly (string | null)[]

  constructor(bytes: number, fields: readonly (string | null)[]) {
    super(`a record of ${bytes} bytes`)
    this.fields = fields
  }
}

/** Watches CSV go by and knows its longest record: a reader must be told, and takes memory accordingly. */
export class LineMeter {
  private readonly most: number

  /** `most`: bytes beyond which a record is refused with a `RecordTooLong`. */
  constructor(most = Infinity) {
    this.most = most
  }

  /** Bytes of the longest record so far, its end of line included. */
  longest = 0
  bytes = 0
  private inQuotes = false
  private begun = 0
  /** Where the record that is not over yet begins. */
  private head: Buffer = NOTHING

  take(part: Buffer): void {
    let at = 0
    // Where the next of each is; found again only when passed.
    let newline = part.indexOf(NEWLINE!)
    let quote = part.indexOf(QUOTE!)
    while (at < part.length) {
      if (this.inQuotes) {
        if (quote === -1) break
        this.inQuotes = false
        at = quote + 1
        quote = part.indexOf(QUOTE!, at)
        if (newline !== -1 && newline < at) newline = part.indexOf(NEWLINE!, at)
      } else if (quote !== -1 && (newline === -1 || quote < newline)) {
        this.inQuotes = true
        at = quote + 1
        quote = part.indexOf(QUOTE!, at)
      } else if (newline !== -1) {
        const long = this.bytes + newline + 1 - this.begun
        if (long > this.longest) this.longer(long)
        this.begun = this.bytes + newline + 1
        at = newline + 1
        newline = part.indexOf(NEWLINE!, at)
        this.head = NOTHING
      } else break
    }
    if (this.head === NOTHING && this.bytes + part.length > this.begun)
      this.head = part.subarray(Math.max(0, this.begun - this.bytes)).subarray(0, HEAD_BYTES)
    this.bytes += part.length
    if (this.bytes - this.begun > this.longest) this.longer(this.bytes - this.begun)
  }

  private longer(bytes: number): void {
    this.longest = bytes
    if (bytes > this.most) throw new RecordTooLong(bytes, fieldsOf(this.head))
  }
}
