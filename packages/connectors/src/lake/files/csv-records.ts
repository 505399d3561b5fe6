/**
 * Records of CSV files that others have written: any delimiter and end of line, a mark at the beginning, quotes that hold both. A record
 * that cannot be read is told by its line, and the next line is read as if it had not been there.
 * https://www.rfc-editor.org/rfc/rfc4180
 */
import type { FileRecord } from './file-record.ts'

/** A record that is larger than this is taken for one with a quote that does not end. */
const LARGEST_RECORD = 16 * 2 ** 20
const DELIMITERS = [',', ';', '\t', '|']

interface Read {
  values: (string | null)[]
  problem: string | null
  /** Where the next one begins, and how many lines that is further on. */
  next: number
  lines: number
}

/** `text`: in parts of any size. */
export async function* csvRecords(text: AsyncIterable<string>): AsyncGenerator<FileRecord> {
  const parts = text[Symbol.asyncIterator]()
  let [buffer, at, line, ended] = ['', 0, 1, false]
  let [delimiter, names]: [string | undefined, string[] | undefined] = [undefined, undefined]
  /** At least as much again as there is, so that a large record is not gone through for every part. */
  const more = async (): Promise<boolean> => {
    buffer = buffer.slice(at)
    at = 0
    const wanted = 2 * buffer.length
    do {
      const { done, value } = await parts.next()
      if (done) ended = true
      else buffer += value
    } while (!ended && buffer.length < wanted)
    return !ended
  }
  try {
    for (;;) {
      if (at === buffer.length && !(await more()) && at === buffer.length) return
      if (line === 1 && at === 0 && buffer.charCodeAt(0) === 0xfeff) at = 1
      let read = readRecord(buffer, at, delimiter, ended)
      while (!read && !ended && buffer.length - at < LARGEST_RECORD) {
        await more()
        read = readRecord(buffer, at, delimiter, ended)
      }
      read ??= unended(buffer, at)
      const { values, problem, next, lines } = read
      const [begins, own] = [at, line]
      at = next
      line += lines
      if (values.length === 1 && values[0] === null && problem === null) continue // an empty line
      if (!names) {
        delimiter ??= delimiterOf(buffer.slice(begins, next))
        names = named(readRecord(buffer, begins, delimiter, true)?.values ?? values)
        continue
      }
      const fits = values.length === names.length
      const why =
        problem ?? (fits ? null : `it has ${values.length} fields, and the first line ${names.length}`)
      yield { line: own, names, values: why === null ? values : [], problem: why }
    }
  } finally {
    await parts.return?.()
  }
}

/** Undefined: its end has not come yet. Without a delimiter, the whole line is one field. */
function readRecord(
  text: string,
  from: number,
  delimiter: string | undefined,
  isAll: boolean,
): Read | undefined {
  const values: (string | null)[] = []
  let [at, lines] = [from, 0]
  const done = (next: number): Read => ({ values, problem: null, next, lines: lines + 1 })
  for (;;) {
    if (text[at] === '"') {
      const end = closing(text, at)
      if (end === undefined) return undefined
      const inside = text.slice(at + 1, end)
      lines += linesIn(inside)
      values.push(inside.replaceAll('""', '"'))
      at = end + 1
      // Whether more stands behind it is not known yet.
      if (at === text.length && !isAll) return undefined
      if (at < text.length && !isEnd(text, at) && text[at] !== delimiter) {
        const next = endOfLine(text, at, isAll)
        if (next === undefined) return undefined
        return { values, problem: 'something stands behind a quote that ends', next, lines: lines + 1 }
      }
    } else {
      const start = at
      while (at < text.length && !isEnd(text, at) && text[at] !== delimiter) at++
      if (at === text.length && !isAll) return undefined
      values.push(at === start ? null : text.slice(start, at))
    }
    if (at >= text.length) return done(at)
    if (text[at] === delimiter) {
      at++
      continue
    }
    if (text[at] === '\r' && at + 1 === text.length && !isAll) return undefined
    return done(text[at] === '\r' && text[at + 1] === '\n' ? at + 2 : at + 1)
  }
}

/** Its first line is what cannot be read; behind that it goes on. */
function unended(text: string, from: number): Read {
  const next = endOfLine(text, from, true)!
  return { values: [], problem: 'a quote begins in this line and does not end in the file', next, lines: 1 }
}

const isEnd = (text: string, at: number) => text[at] === '\n' || text[at] === '\r'

/** Where the quote that begins here ends. */
function closing(text: string, from: number): number | undefined {
  for (let at = text.indexOf('"', from + 1); at !== -1; at = text.indexOf('"', at + 2))
    if (text[at + 1] !== '"') return at
  return undefined
}

function endOfLine(text: string, from: number, isAll: boolean): number | undefined {
  let at = from
  while (at < text.length && !isEnd(text, at)) at++
  if (at === text.length) return isAll ? at : undefined
  return text[at] === '\r' && text[at + 1] === '\n' ? at + 2 : at + 1
}

function linesIn(text: string): number {
  return /[\r\n]/.test(text) ? text.split(/\r\n|\n|\r/).length - 1 : 0
}

/** The sign that stands between names most often. */
function delimiterOf(first: string): string {
  const plain = first.replace(/"(?:[^"]|"")*"/g, '')
  const counts = DELIMITERS.map(sign => plain.split(sign).length)
  return DELIMITERS[counts.indexOf(Math.max(...counts))]!
}

/** Names that are missing or come again are told apart by their places. */
function named(first: readonly (string | null)[]): string[] {
  const seen = new Set<string>()
  return first.map((name, i) => {
    const wanted = name === null || name.trim() === '' ? `column_${i + 1}` : name.trim()
    const own = seen.has(wanted) ? `${wanted}_${i + 1}` : wanted
    seen.add(own)
    return own
  })
}
