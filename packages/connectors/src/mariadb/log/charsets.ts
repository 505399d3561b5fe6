import iconv from 'iconv-lite'
import type { Session } from '../client.ts'

/** Names that differ between MariaDB and the decoder's package. */
const ENCODINGS: Record<string, string> = {
  utf8mb3: 'utf8',
  utf8mb4: 'utf8',
  latin1: 'cp1252',
  latin2: 'iso-8859-2',
  latin5: 'iso-8859-9',
  latin7: 'iso-8859-13',
  greek: 'iso-8859-7',
  hebrew: 'iso-8859-8',
  ucs2: 'utf16be',
  utf16: 'utf16be',
  utf32: 'utf32be',
  koi8r: 'koi8-r',
  koi8u: 'koi8-u',
  sjis: 'shift_jis',
  ujis: 'euc-jp',
  eucjpms: 'euc-jp',
  euckr: 'euc-kr',
  tis620: 'tis-620',
  macroman: 'macroman',
  macce: 'maccenteuro',
}

export type Decode = (bytes: Buffer) => string

/** How the bytes of each collation become text; `binary` has none. */
export async function readCharsets(session: Session): Promise<Map<number, Decode>> {
  const rows = await session.arrays(
    `SELECT id, character_set_name FROM information_schema.collation_character_set_applicability a
      WHERE id IS NOT NULL AND character_set_name <> 'binary'`,
  )
  return new Map(
    rows.flatMap(([id, charset]): [number, Decode][] => {
      const decode = decoderOf(charset!)
      return decode ? [[Number(id), decode]] : []
    }),
  )
}

/** Whether texts of a character set can be read out of the log. */
export function isKnownCharset(charset: string): boolean {
  return charset === 'binary' || decoderOf(charset) !== undefined
}

function decoderOf(charset: string): Decode | undefined {
  const encoding = ENCODINGS[charset] ?? charset
  if (encoding === 'utf8' || encoding === 'ascii') return bytes => bytes.toString('utf8')
  if (!iconv.encodingExists(encoding)) return undefined
  const decode: Decode = bytes => iconv.decode(bytes, encoding, { stripBOM: false })
  return charset === 'latin1' ? bytes => withControls(bytes, decode) : decode
}

/** Five bytes that Windows leaves open are control characters to MariaDB. */
function withControls(bytes: Buffer, decode: Decode): string {
  const open = [0x81, 0x8d, 0x8f, 0x90, 0x9d]
  if (!bytes.some(byte => open.includes(byte))) return decode(bytes)
  return [...bytes]
    .map(byte => (open.includes(byte) ? String.fromCharCode(byte) : decode(Buffer.of(byte))))
    .join('')
}
