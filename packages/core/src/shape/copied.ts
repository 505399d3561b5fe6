/** The rows of a copy on their way, from CSV to CSV: what is merely taken passes as the bytes it is. */
import type { Lane } from '../plan/lane.ts'
import { csvField } from '../records/csv.ts'
import { fieldAt } from '../records/csv-rows.ts'
import type { Value } from '../records/value.ts'
import { predicateAsOf } from '../scope/predicate.ts'
import { NoValue } from '../expression/values.ts'
import { noValue } from './misfit.ts'
import { madeColumns, stretchesOf, type Coming, type Made, type Shaping } from './written.ts'

declare const TextEncoder: new () => { encodeInto(text: string, into: Uint8Array): { written: number } }
const encoder = new TextEncoder()
const [QUOTE, COMMA, NEWLINE] = [0x22, 0x2c, 0x0a]

/** Whole lines of CSV (see `csvLine`) in and out; rows that are not in scope are not among them. */
export type ShapeCopied = (lines: Uint8Array, coming: Omit<Coming, 'op' | 'committedAt'>) => Uint8Array

/** Undefined where rows land as they are read. */
export function copiedShaper(lane: Lane, shaping: Shaping): ShapeCopied | undefined {
  const { reads, scope } = lane
  const columns = madeColumns(lane, shaping)
  const asRead =
    columns.length === reads.length && columns.every(({ taken, places }, i) => taken && places[0] === i)
  if (asRead && scope === null) return undefined
  const predicateAt = scope && predicateAsOf(scope, reads)
  let predicate = predicateAt?.('2000-01-01T00:00:00.000Z')
  // What must be looked into.
  const looked = reads.map(({ name }, i) => {
    const made = columns.some(({ taken, places }) => !taken && places.includes(i))
    return made || (predicate?.columns.includes(name) ?? false)
  })
  const stretches = stretchesOf(columns)
  const values = new Array<Value>(reads.length)
  const starts = new Int32Array(reads.length)
  const ends = new Int32Array(reads.length)
  let out = new Uint8Array(64 * 1024)
  let length = 0
  const room = (size: number) => {
    if (length + size <= out.length) return
    const larger = new Uint8Array((length + size) * 2)
    larger.set(out.subarray(0, length))
    out = larger
  }
  const identity = lane.identity.map(name => reads.findIndex(column => column.name === name))
  /** What no value can be made for is told of by the row's key. */
  const made = ({ name, make }: Made, lines: Uint8Array, coming: Coming): Value => {
    try {
      return make(values, coming)
    } catch (thrown) {
      if (!(thrown instanceof NoValue)) throw thrown
      const key = identity.map(place => fieldAt(lines, starts[place]!, ends[place]!))
      throw noValue(lane, name, thrown.message, key)
    }
  }
  const inScope = (lines: Uint8Array): boolean => {
    try {
      return predicate!.test(values) === true
    } catch (thrown) {
      if (!(thrown instanceof NoValue)) throw thrown
      const key = identity.map(place => fieldAt(lines, starts[place]!, ends[place]!))
      throw noValue(lane, 'its scope', thrown.message, key)
    }
  }
  const put = (lines: Uint8Array, coming: Coming): void => {
    for (const stretch of stretches) {
      if ('to' in stretch) {
        const [start, end] = [starts[stretch.from]!, ends[stretch.to]!]
        room(end - start + 1)
        out.set(lines.subarray(start, end), length)
        length += end - start
      } else {
        const value = made(stretch.made, lines, coming)
        if (value !== null && value !== undefined) {
          const text = csvField(value)
          room(text.length * 3 + 1)
          length += encoder.encodeInto(text, out.subarray(length)).written
        } else room(1)
      }
      out[length++] = COMMA
    }
    out[length - 1] = NEWLINE
  }
  return (lines, { position, landedAt }) => {
    const coming: Coming = { op: 'copy', committedAt: null, position, landedAt }
    predicate = predicateAt?.(landedAt)
    length = 0
    let [column, start, quoted] = [0, 0, false]
    for (let i = 0; i < lines.length; i++) {
      const byte = lines[i]!
      if (byte === QUOTE) quoted = !quoted
      if (quoted || (byte !== COMMA && byte !== NEWLINE)) continue
      starts[column] = start
      ends[column] = i
      if (looked[column]) values[column] = fieldAt(lines, start, i)
      start = i + 1
      column++
      if (byte === COMMA) continue
      column = 0
      if (!predicate || inScope(lines)) put(lines, coming)
    }
    return out.slice(0, length)
  }
}
