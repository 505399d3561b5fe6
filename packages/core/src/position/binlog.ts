/**
 * Places in a binary log of MariaDB or MySQL, printed as the servers' tools print them: `binlog.000003:4242`, followed
 * by the global transaction id that is in force there, where the server has such: `binlog.000003:4242 0-7-93`. Transactions that were prepared before and have not ended there
 * (XA) stand behind it, each with the place where it begins: `… xa 1.61.@binlog.000002:100`.
 */

export interface BinlogPlace {
  file: string
  offset: number
  /** Empty: none. With several domains, separated by commas. */
  gtid: string
  prepared: PreparedPlace[]
}

/** A prepared transaction: its XA id, and where in the log it begins. */
export interface PreparedPlace {
  xid: string
  file: string
  offset: number
}

/** Throws on anything else. */
export function parseBinlog(text: string): BinlogPlace {
  const match = /^(.+?\.\d+):(\d+)(?: ([\d,-]+))?(?: xa (.+))?$/.exec(text)
  if (!match) throw new Error(`not a place in a binary log: ${text}`)
  const prepared = (match[4]?.split(' ') ?? []).map((one): PreparedPlace => {
    const [, xid, file, offset] = /^([^@]+)@(.+):(\d+)$/.exec(one) ?? []
    if (!xid) throw new Error(`not a place in a binary log: ${text}`)
    return { xid, file: file!, offset: Number(offset) }
  })
  return { file: match[1]!, offset: Number(match[2]), gtid: match[3] ?? '', prepared }
}

export function printBinlog({ file, offset, gtid, prepared }: BinlogPlace): string {
  const places = prepared.map(one => ` ${one.xid}@${one.file}:${one.offset}`).join('')
  return `${file}:${offset}${gtid ? ` ${gtid}` : ''}${places ? ` xa${places}` : ''}`
}

/** Negative, zero or positive. Files are numbered in the order they were written. */
export function compareBinlog(a: string, b: string): number {
  const [left, right] = [orderOf(a), orderOf(b)]
  return left.number - right.number || left.offset - right.offset
}

/** What orders a place, without reading the rest: it is compared at every transaction. */
function orderOf(text: string): { number: number; offset: number } {
  const colon = text.indexOf(':')
  const [number, offset] = [
    Number(text.slice(text.lastIndexOf('.', colon) + 1, colon)),
    parseInt(text.slice(colon + 1), 10),
  ]
  if (colon > 0 && number >= 0 && offset >= 0) return { number, offset }
  const place = parseBinlog(text) // a file's name may hold anything
  return { number: Number(place.file.slice(place.file.lastIndexOf('.') + 1)), offset: place.offset }
}
