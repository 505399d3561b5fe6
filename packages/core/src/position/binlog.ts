/** Places in a binary log of MariaDB or MySQL, printed as the servers' tools print them: `binlog.000003:4242`. */

export interface BinlogPlace {
  file: string
  offset: number
}

/** Throws on anything else. */
export function parseBinlog(text: string): BinlogPlace {
  const match = /^(.+\.\d+):(\d+)$/.exec(text)
  if (!match) throw new Error(`not a place in a binary log: ${text}`)
  return { file: match[1]!, offset: Number(match[2]) }
}

export function printBinlog({ file, offset }: BinlogPlace): string {
  return `${file}:${offset}`
}

/** Negative, zero or positive. Files are numbered in the order they were written. */
export function compareBinlog(a: string, b: string): number {
  const [left, right] = [parseBinlog(a), parseBinlog(b)]
  const number = (file: string) => Number(file.slice(file.lastIndexOf('.') + 1))
  return number(left.file) - number(right.file) || left.offset - right.offset
}
