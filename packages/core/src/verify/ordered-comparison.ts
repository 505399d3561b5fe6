/** Two sides of a lane in the order of their keys, held against each other line by line. */
import { csvRows } from '../records/csv-rows.ts'
import { oneText } from '../records/same.ts'
import type { LogicalType } from '../records/types.ts'
import { keyOf, keyText, type Key } from '../records/value.ts'
import { compareText, orderOf } from '../scope/order.ts'
import { differences } from './compared-row.ts'
import type { VerifiedLane } from './verified-lane.ts'

const [QUOTE, NEWLINE] = [0x22, 0x0a]

/** Between two tellings others get their turn: so much is done, where a line that is read costs as much as several others. */
const BUDGET = 30_000
const READ_COST = 20
/** So many rows that only one side has are told of together. */
const ALONE = 1_000
/** So many lines are compared at once, as long as they are the same. */
const MOST_TOGETHER = 64

/** What has been looked at since it was told last. */
export interface Compared {
  atSource: number
  atTarget: number
  /** Rows that are the same on both sides. */
  equal: number
  /**
   * Keys under which the sides are not the same, or were not when they were read; as the target has them, or should. `after`: so
   * many rows of the source were before that, since it was told last.
   */
  questions: { key: Key; after: number }[]
}

/** Whether so many bytes are the same in both, from these places on. */
export type SameBytes = (a: Uint8Array, aAt: number, b: Uint8Array, bAt: number, length: number) => boolean

/**
 * Tells now and then what has come of it. Lines of the same bytes are equal rows, and no more is made of them; others are read
 * field by field. Where a side does not come in the order of its keys, more is in question than must be, and nothing is missed.
 */
export async function* orderedComparison(
  source: AsyncIterable<Uint8Array>,
  target: AsyncIterable<Uint8Array>,
  verified: VerifiedLane,
  sameBytes: SameBytes,
): AsyncGenerator<Compared> {
  const { lane, keyPlaces } = verified
  const compareKeys = keyComparison(verified)
  const from = new LookedThrough(source)
  const to = new Taken(target)
  const rowOf = (bytes: Uint8Array, start: number, end: number) => {
    const row = csvRows(bytes.subarray(start, end))[0]!
    return { row, key: keyOf(row, keyPlaces) }
  }
  let together = MOST_TOGETHER
  try {
    for (;;) {
      const more = await from.fill()
      const others = await to.fill()
      if (!more && !others) return
      const told: Compared = { atSource: 0, atTarget: 0, equal: 0, questions: [] }
      for (let budget = BUDGET; budget > 0 && from.left > 0 && !to.empty;) {
        let lines = Math.min(together, from.left)
        let length = from.lengthOf(lines)
        for (; length > to.available && lines > 1; length = from.lengthOf(lines)) lines >>= 1
        if (length <= to.available && sameBytes(from.bytes, from.at, to.bytes, to.at, length)) {
          from.take(lines)
          to.take(length)
          told.atSource += lines
          told.atTarget += lines
          told.equal += lines
          budget -= lines
          together = Math.min(MOST_TOGETHER, 2 * together)
          continue
        }
        if (lines > 1) {
          together = lines >> 1
          continue
        }
        const end = to.endOfLine
        // Of the target's line the rest is still to come.
        if (end === undefined) break
        budget -= READ_COST
        const left = rowOf(from.bytes, from.at, from.at + length)
        const right = rowOf(to.bytes, to.at, end)
        const order = compareKeys(left.key, right.key)
        if (order === 0 && differences(lane, left.row, right.row).length === 0) told.equal++
        else told.questions.push({ key: order > 0 ? right.key : left.key, after: told.atSource })
        if (order <= 0) {
          from.take(1)
          told.atSource++
        }
        if (order >= 0) {
          to.take(end - to.at)
          told.atTarget++
        }
      }
      for (let n = 0; !others && from.left > 0 && n < ALONE; n++) {
        const { key } = rowOf(from.bytes, from.at, from.at + from.lengthOf(1))
        told.questions.push({ key, after: told.atSource++ })
        from.take(1)
      }
      for (let n = 0; !more && n < ALONE; n++) {
        const end = to.endOfLine
        if (end === undefined) break
        told.questions.push({ key: rowOf(to.bytes, to.at, end).key, after: told.atSource })
        told.atTarget++
        to.take(end - to.at)
      }
      if (!to.empty && to.endOfLine === undefined && !(await to.fetch()))
        throw new Error('the last line of the target does not end')
      yield told
    }
  } finally {
    await Promise.all([from.end(), to.end()])
  }
}

/** One side's bytes, of which what is taken goes. */
class Taken {
  bytes: Uint8Array = new Uint8Array(0)
  at = 0
  protected readonly parts: AsyncIterator<Uint8Array>

  constructor(parts: AsyncIterable<Uint8Array>) {
    this.parts = parts[Symbol.asyncIterator]()
  }

  get available(): number {
    return this.bytes.length - this.at
  }

  get empty(): boolean {
    return this.at >= this.bytes.length
  }

  /** False when there is no more. */
  async fill(): Promise<boolean> {
    while (this.empty) if (!(await this.fetch())) return false
    return true
  }

  /** Behind what is left of what came before. */
  async fetch(): Promise<boolean> {
    const { done, value } = await this.parts.next()
    if (done) return false
    this.append(value)
    return true
  }

  protected append(part: Uint8Array): void {
    const rest = this.bytes.subarray(this.at)
    this.at = 0
    if (rest.length === 0) {
      this.bytes = part
      return
    }
    this.bytes = new Uint8Array(rest.length + part.length)
    this.bytes.set(rest)
    this.bytes.set(part, rest.length)
  }

  take(length: number): void {
    this.at += length
  }

  /** Where the line at the place ends; undefined: that has not come yet. */
  get endOfLine(): number | undefined {
    const { bytes } = this
    let quoted = false
    for (let i = this.at; i < bytes.length; i++) {
      if (bytes[i] === QUOTE) quoted = !quoted
      else if (bytes[i] === NEWLINE && !quoted) return i + 1
    }
    return undefined
  }

  async end(): Promise<void> {
    await this.parts.return?.()
  }
}

/** The other side's: of it, the ends of all lines are looked for once. */
class LookedThrough extends Taken {
  private ends = new Int32Array(1024)
  private lines = 0
  private next = 0
  private quoted = false
  /** What comes behind the line that was cut. */
  private behind: Uint8Array | undefined

  /** Whole lines that are there. */
  get left(): number {
    return this.lines - this.next
  }

  lengthOf(lines: number): number {
    return this.ends[this.next + lines - 1]! - this.at
  }

  override async fill(): Promise<boolean> {
    while (this.left === 0) if (!(await this.fetch())) return false
    return true
  }

  /** Only a line that was cut is put together with what comes, so that little is copied. */
  override async fetch(): Promise<boolean> {
    const { available } = this
    const { behind } = this
    this.behind = undefined
    const part = behind ?? (await this.parts.next()).value
    if (!part) return false
    const end = available > 0 ? this.lineEndIn(part) : undefined
    if (end !== undefined && end < part.length) this.behind = part.subarray(end)
    this.append(end === undefined ? part : part.subarray(0, end))
    this.lines = this.next = 0
    this.look(available)
    return true
  }

  /** Takes lines. */
  override take(lines: number): void {
    this.next += lines
    this.at = this.ends[this.next - 1]!
  }

  private look(from: number): void {
    const { bytes } = this
    const { length } = bytes
    let { ends, lines, quoted } = this
    for (let i = from; i < length; i++) {
      const byte = bytes[i]!
      // Nearly all are.
      if (byte > QUOTE) continue
      if (byte === QUOTE) quoted = !quoted
      else if (byte === NEWLINE && !quoted) {
        if (lines === ends.length) ends = longer(ends)
        ends[lines++] = i + 1
      }
    }
    this.ends = ends
    this.lines = lines
    this.quoted = quoted
  }

  /** Where the line ends that began before the part. */
  private lineEndIn(part: Uint8Array): number | undefined {
    let { quoted } = this
    for (let i = 0; i < part.length; i++) {
      if (part[i] === QUOTE) quoted = !quoted
      else if (part[i] === NEWLINE && !quoted) return i + 1
    }
    return undefined
  }
}

function longer(ends: Int32Array): Int32Array<ArrayBuffer> {
  const twice = new Int32Array(2 * ends.length)
  twice.set(ends)
  return twice
}

function keyComparison({ lane, keyPlaces, order }: VerifiedLane): (a: Key, b: Key) => number {
  const parts = keyPlaces.map((place, i) => partComparison(lane.writes[place]!.type, order[i]!))
  return (a, b) => {
    for (const [i, compare] of parts.entries()) {
      const found = compare(a[i]!, b[i]!)
      if (found !== 0) return found
    }
    return 0
  }
}

function partComparison(type: LogicalType, order: 'number' | 'text'): (a: string, b: string) => number {
  if (order === 'text') return compareText
  const { parse, compare } = orderOf(type)
  return (a, b) => {
    const [left, right] = [parse(a), parse(b)]
    // What is no number must at least have one place.
    if (left === undefined || right === undefined) return compareText(a, b)
    return compare(left, right)
  }
}

/** Texts that are equal for keys that both sides take for the same, however each prints them. */
export function keyIdentity({ lane, keyPlaces }: VerifiedLane): (key: Key) => string {
  const types = keyPlaces.map(place => lane.writes[place]!.type)
  return key => keyText(key.map((part, i) => oneText(part, types[i]!)))
}
