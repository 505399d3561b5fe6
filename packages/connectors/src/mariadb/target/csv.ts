const [QUOTE, COMMA, NEWLINE] = Buffer.from('",\n')
/** What is sent at once; servers take 1 MB and more, as they are set. */
const PACKET_BYTES = 512 * 1024

const [BACKSLASH, TAB, N] = Buffer.from('\\\tN')

/**
 * Turns CSV (see `csvLine`) into what `LOAD DATA` reads by default: fields between tabs, with backslashes before what
 * is special, and `\N` for null, which CSV shows by nothing at all.
 */
export async function* loadDataLines(
  csv: AsyncIterable<Uint8Array> | Iterable<Uint8Array>,
): AsyncGenerator<Buffer> {
  let [inQuotes, quotedField, fieldEmpty, quoteSeen] = [false, false, true, false]
  for await (const part of csv) {
    // A null is a separator alone here, and three bytes there.
    const out = Buffer.allocUnsafe(part.length * 3)
    let length = 0
    const endField = () => {
      if (fieldEmpty && !quotedField) {
        out[length++] = BACKSLASH!
        out[length++] = N!
      }
      fieldEmpty = true
      quotedField = false
    }
    const put = (byte: number) => {
      if (byte === BACKSLASH || byte === TAB || byte === NEWLINE) out[length++] = BACKSLASH!
      out[length++] = byte
      fieldEmpty = false
    }
    for (let i = 0; i < part.length; i++) {
      const byte = part[i]!
      if (inQuotes && !quoteSeen) {
        if (byte === QUOTE) quoteSeen = true
        else put(byte)
        continue
      }
      if (quoteSeen) {
        // Two quotes stand for one; a single one was the end.
        quoteSeen = false
        if (byte === QUOTE) {
          put(byte)
          continue
        }
        inQuotes = false
      }
      if (byte === QUOTE) inQuotes = quotedField = true
      else if (byte === COMMA) {
        endField()
        out[length++] = TAB!
      } else if (byte === NEWLINE) {
        endField()
        out[length++] = NEWLINE
      } else put(byte)
    }
    for (let at = 0; at < length; at += PACKET_BYTES)
      yield out.subarray(at, Math.min(length, at + PACKET_BYTES))
  }
}
