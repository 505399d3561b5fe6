/** Two sides of a lane in the order of their keys, held against each other line by line. */
import { csvRows } from '../records/csv-rows.ts'
import { oneText } from '../records/same.ts'
import type { LogicalType } from '../records/types.ts'
import { keyOf, keyText, type Key, type Row } from '../records/value.ts'
import { compareText, orderOf } from '../scope/order.ts'
import { differences } from './compared-row.ts'
import type { VerifiedLane } from './verified-lane.ts'

const [QUOTE, NEWLINE] = [0x22, 0x0a]

/** Between two tellings others get their turn: so much is done, where a line that is read costs as much as several others. */
const BUDGET = 30_000
const READ_COST = 20

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

/** Whole lines of one side (see `csvLine`), batch by batch, with a place among them. */
class Side {
  readonly batches: AsyncIterator<Uint8Array>
  lines: Uint8Array = new Uint8Array(0)
  at = 0
  private readonly keyPlaces: readonly number[]
  private readRow: { at: number; row: Row; key: Key; end: number } | undefined

  constructor(lines: AsyncIterable<Uint8Array>, keyPlaces: readonly number[]) {
    this.batches = lines[Symbol.asyncIterator]()
    this.keyPlaces = keyPlaces
  }

  get empty(): boolean {
    return this.at >= this.lines.length
  }

  /** False when there is no more. */
  async fill(): Promise<boolean> {
    while (this.empty) {
      const next = await this.batches.next()
      if (next.done) return false
      this.lines = next.value
      this.at = 0
      this.readRow = undefined
    }
    return true
  }

  /** The row at the place. */
  get row(): { at: number; row: Row; key: Key; end: number } {
    if (this.readRow?.at === this.at) return this.readRow
    let [end, quoted] = [this.at, false]
    for (; quoted || this.lines[end] !== NEWLINE; end++) if (this.lines[end] === QUOTE) quoted = !quoted
    end++
    const row = csvRows(this.lines.subarray(this.at, end))[0]!
    return (this.readRow = { at: this.at, row, key: keyOf(row, this.keyPlaces), end })
  }

  /** Takes the row at the place; returns its key. */
  take(): Key {
    const { key, end } = this.row
    this.at = end
    return key
  }
}

/**
 * Tells what came of each batch of lines. Lines of the same bytes are equal rows, and no more is made of them; others are read
 * field by field. Where a side does not come in the order of its keys, more is in question than must be, and nothing is missed.
 */
export async function* orderedComparison(
  source: AsyncIterable<Uint8Array>,
  target: AsyncIterable<Uint8Array>,
  verified: VerifiedLane,
): AsyncGenerator<Compared> {
  const { lane, keyPlaces } = verified
  const compareKeys = keyComparison(verified)
  const [from, to] = [new Side(source, keyPlaces), new Side(target, keyPlaces)]
  try {
    for (;;) {
      const [more, others] = [await from.fill(), await to.fill()]
      if (!more && !others) return
      const told: Compared = { atSource: 0, atTarget: 0, equal: 0, questions: [] }
      let budget = BUDGET
      while (more && others && !from.empty && !to.empty && budget-- > 0) {
        const same = sameLine(from.lines, from.at, to.lines, to.at)
        if (same > 0) {
          from.at += same
          to.at += same
          told.atSource++
          told.atTarget++
          told.equal++
          continue
        }
        budget -= READ_COST
        const [left, right] = [from.row, to.row]
        const order = compareKeys(left.key, right.key)
        if (order === 0 && differences(lane, left.row, right.row).length === 0) told.equal++
        else told.questions.push({ key: order > 0 ? right.key : left.key, after: told.atSource })
        if (order <= 0) {
          from.take()
          told.atSource++
        }
        if (order >= 0) {
          to.take()
          told.atTarget++
        }
      }
      if (!others) {
        for (; !from.empty && (budget -= READ_COST) > 0; told.atSource++)
          told.questions.push({ key: from.take(), after: told.atSource })
      }
      if (!more) {
        for (; !to.empty && (budget -= READ_COST) > 0; told.atTarget++)
          told.questions.push({ key: to.take(), after: told.atSource })
      }
      yield told
    }
  } finally {
    await Promise.all([from.batches.return?.(), to.batches.return?.()])
  }
}

/** How long the line is that both have at these places; 0: they have different ones. */
function sameLine(a: Uint8Array, aAt: number, b: Uint8Array, bAt: number): number {
  let quoted = false
  for (let i = 0; ; i++) {
    const byte = a[aAt + i]
    if (byte !== b[bAt + i]) return 0
    if (byte === QUOTE) quoted = !quoted
    else if (byte === NEWLINE && !quoted) return i + 1
  }
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
