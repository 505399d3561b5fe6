/**
 * How texts in the log become Unicode. A log holds them in the character sets of their columns, of which every server and
 * every library has its own idea; so the server itself is asked what its bytes mean.
 */
import type { Session } from '../client.ts'
import { literal } from '../sql.ts'

import { isAscii } from 'node:buffer'

export type Decode = (bytes: Buffer) => string

/** What the rows of a log are written in; its bytes need no decoding. */
export const utf8: Decode = bytes => bytes.toString('utf8')

/** Character sets that are Unicode already. */
const UNICODE: Readonly<Record<string, Decode>> = {
  utf8mb4: utf8,
  utf8mb3: utf8,
  utf8,
  ascii: utf8,
  ucs2: bytes => wellFormed(swapped(bytes)),
  utf16: bytes => wellFormed(swapped(bytes)),
  utf16le: bytes => wellFormed(bytes.toString('utf16le')),
  utf32: bytes => {
    let text = ''
    for (let at = 0; at + 4 <= bytes.length; at += 4) text += String.fromCodePoint(bytes.readUInt32BE(at))
    return text
  },
}

/** Where a character has three bytes, it begins with this one. */
const THREE_BYTES_BEHIND = 0x8f

/** By the number of a collation, how its texts are read: for character sets that any of these tables uses, and all small ones. */
export async function readCharsets(
  session: Session,
  used: ReadonlySet<string>,
): Promise<ReadonlyMap<number, Decode>> {
  const rows = await session.rows<{ id: string; name: string; longest: string }>(
    `SELECT a.id, a.character_set_name AS name, c.maxlen AS longest
       FROM information_schema.collation_character_set_applicability a
       JOIN information_schema.character_sets c ON c.character_set_name = a.character_set_name
      WHERE a.id IS NOT NULL AND a.character_set_name <> 'binary'`,
  )
  const decoders = new Map<string, Decode>(Object.entries(UNICODE))
  const longest = new Map(rows.map(row => [row.name, Number(row.longest)]))
  for (const [charset, bytes] of longest) {
    if (decoders.has(charset) || (bytes > 1 && !used.has(charset))) continue
    decoders.set(charset, plainFirst(await askFor(session, charset, bytes)))
  }
  return new Map(
    rows.flatMap(({ id, name }): [number, Decode][] => {
      const decode = decoders.get(name)
      return decode ? [[Number(id), decode]] : []
    }),
  )
}

/** Where the character set has ASCII where all have it, texts of nothing else are taken as they are. */
function plainFirst(decode: Decode): Decode {
  const ascii = Buffer.from(Array.from({ length: 128 }, (_, byte) => byte))
  if (decode(ascii) !== ascii.toString('latin1')) return decode
  return bytes => (isAscii(bytes) ? bytes.toString('latin1') : decode(bytes))
}

async function askFor(session: Session, charset: string, longest: number): Promise<Decode> {
  const ask = async (bytes: Buffer) => {
    const [row] = await session.arrays(
      `SELECT HEX(CONVERT(CONVERT(x'${bytes.toString('hex')}' USING ${charset}) USING utf8mb4))`,
    )
    return Buffer.from(row![0]!, 'hex').toString('utf8')
  }
  const singles = [...(await ask(Buffer.from(Array.from({ length: 256 }, (_, byte) => byte))))]
  if (longest === 1) return bytes => Array.from(bytes, byte => singles[byte]).join('')
  const pairs = await pairsOf(ask, [])
  const triples = longest > 2 ? await pairsOf(ask, [THREE_BYTES_BEHIND]) : undefined
  return bytes => {
    let text = ''
    for (let at = 0; at < bytes.length;) {
      const byte = bytes[at]!
      const pairAt = (place: number) => (place + 1 < bytes.length ? bytes.readUInt16BE(place) : -1)
      const three = byte === THREE_BYTES_BEHIND ? triples?.get(pairAt(at + 1)) : undefined
      const two = byte > 0x7f ? pairs.get(pairAt(at)) : undefined
      if (three !== undefined) [text, at] = [text + three, at + 3]
      else if (two !== undefined) [text, at] = [text + two, at + 2]
      else [text, at] = [text + (byte < 0x80 ? singles[byte]! : halfWidth(charset, byte)), at + 1]
    }
    return text
  }
}

/** What each pair of bytes behind `before` means; pairs that mean nothing are not in it. */
async function pairsOf(
  ask: (bytes: Buffer) => Promise<string>,
  before: readonly number[],
): Promise<Map<number, string>> {
  const pairs: [number, number][] = []
  for (let lead = 0x80; lead < 0xff; lead++)
    for (let trail = 0x40; trail < 0xff; trail++) pairs.push([lead, trail])
  // Between them stands what is part of none, so that what means nothing does not shift those behind it.
  const answer = await ask(Buffer.from(pairs.flatMap(pair => [...before, ...pair, 0x0a])))
  const known = new Map<number, string>()
  answer.split('\n').forEach((text, i) => {
    if (i < pairs.length && [...text].length === 1 && text !== '?')
      known.set((pairs[i]![0] << 8) | pairs[i]![1], text)
  })
  return known
}

/** Katakana of half width, which Shift-JIS has in single bytes. */
function halfWidth(charset: string, byte: number): string {
  const single = ['sjis', 'cp932'].includes(charset) && byte >= 0xa1 && byte <= 0xdf
  return single ? String.fromCharCode(0xff61 + byte - 0xa1) : '?'
}

function swapped(bytes: Buffer): string {
  return Buffer.from(bytes).swap16().toString('utf16le')
}

/** Halves of characters, which `ucs2` takes, become what the server prints for them. */
function wellFormed(text: string): string {
  return text.replace(/[\ud800-\udbff](?![\udc00-\udfff])|(?<![\ud800-\udbff])[\udc00-\udfff]/g, '?')
}

/** The character sets of these tables' columns. */
export async function usedCharsets(
  session: Session,
  tables: readonly { namespace: string; name: string }[],
): Promise<Set<string>> {
  if (tables.length === 0) return new Set()
  const names = tables.map(({ namespace, name }) => `(${literal(namespace)}, ${literal(name)})`).join(', ')
  const rows = await session.arrays(
    `SELECT DISTINCT character_set_name FROM information_schema.columns
      WHERE character_set_name IS NOT NULL AND (table_schema, table_name) IN (${names})`,
  )
  return new Set(rows.map(([name]) => name!))
}
