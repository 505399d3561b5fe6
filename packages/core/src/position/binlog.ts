/**
 * Places in a binary log of MariaDB or MySQL, printed as the servers' tools print them: `binlog.000003:4242`, followed
 * by the global transaction id that is in force there, where the server has such: `binlog.000003:4242 0-7-93`.
 */

export interface BinlogPlace {
  file: string
  offset: number
  /** Empty: none. With several domains, separated by commas. */
  gtid: string
}

/** Throws on anything else. */
export function parseBinlog(text: string): BinlogPlace {
  const match = /^(.+\.\d+):(\d+)(?: ([\d,-]+))?$/.exec(text)
  if (!match) throw new Error(`not a place in a binary log: ${text}`)
  return { file: match[1]!, offset: Number(match[2]), gtid: match[3] ?? '' }
}

export function printBinlog({ file, offset, gtid }: BinlogPlace): string {
  return `${file}:${offset}${gtid ? ` ${gtid}` : ''}`
}

/** Negative, zero or positive. Files are numbered in the order they were written. */
export function compareBinlog(a: string, b: string): number {
  const [left, right] = [parseBinlog(a), parseBinlog(b)]
  const number = (file: string) => Number(file.slice(file.lastIndexOf('.') + 1))
  return number(left.file) - number(right.file) || left.offset - right.offset
}
