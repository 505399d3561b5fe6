/** Where lines of CSV (see `csvLine`) end, quotes taken into account: between them it can be cut. */

const [QUOTE, NEWLINE] = [0x22, 0x0a]

/** The same bytes, cut at the ends of lines only, so that one line must fit into memory. Throws where the last line has no end. */
export async function* wholeLines(
  csv: AsyncIterable<Uint8Array> | Iterable<Uint8Array>,
): AsyncGenerator<Uint8Array> {
  let rest: Uint8Array[] = []
  let quoted = false
  for await (const part of csv) {
    let end = 0
    for (let i = 0; i < part.length; i++) {
      const byte = part[i]
      if (byte === QUOTE) quoted = !quoted
      else if (byte === NEWLINE && !quoted) end = i + 1
    }
    if (end === 0) {
      rest.push(part.slice())
      continue
    }
    yield joined([...rest, part.subarray(0, end)])
    rest = end < part.length ? [part.slice(end)] : []
  }
  if (rest.some(({ length }) => length > 0)) throw new Error('the last line of the CSV has no end')
}

function joined(parts: readonly Uint8Array[]): Uint8Array {
  if (parts.length === 1) return parts[0]!
  const whole = new Uint8Array(parts.reduce((sum, { length }) => sum + length, 0))
  let at = 0
  for (const part of parts) {
    whole.set(part, at)
    at += part.length
  }
  return whole
}

/** Whole lines of CSV in parts of so many lines, of the same bytes. */
export function* linesTogether(lines: Uint8Array, most: number): Generator<Uint8Array> {
  let [start, count, quoted] = [0, 0, false]
  for (let i = 0; i < lines.length; i++) {
    const byte = lines[i]
    if (byte === 0x22) quoted = !quoted
    else if (byte === 0x0a && !quoted && ++count === most) {
      yield lines.subarray(start, i + 1)
      ;[start, count] = [i + 1, 0]
    }
  }
  if (start < lines.length) yield lines.subarray(start)
}

/** How many whole lines of CSV there are, and the last of them. */
export function countLines(lines: Uint8Array): { count: number; last: Uint8Array } {
  let [count, start, end, quoted] = [0, 0, 0, false]
  for (let i = 0; i < lines.length; i++) {
    const byte = lines[i]
    if (byte === 0x22) quoted = !quoted
    else if (byte === 0x0a && !quoted) {
      count++
      start = end
      end = i + 1
    }
  }
  return { count, last: lines.subarray(start, end) }
}
