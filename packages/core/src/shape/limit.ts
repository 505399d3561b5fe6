/** Large values, cut to a size. */
import type { LogicalType } from '../records/types.ts'

/** At most `bytes` of a canonical text, whole characters of UTF-8; of binary data, of what it stands for. */
export function cutTo(text: string, bytes: number, { kind }: LogicalType): string {
  // `\x` and two digits a byte.
  if (kind === 'binary') return text.slice(0, 2 + bytes * 2)
  // No character takes more than three bytes for each of its code units.
  if (text.length * 3 <= bytes) return text
  let [size, end] = [0, 0]
  while (end < text.length) {
    const code = text.codePointAt(end)!
    size += code < 0x80 ? 1 : code < 0x800 ? 2 : code < 0x10000 ? 3 : 4
    if (size > bytes) return text.slice(0, end)
    end += code < 0x10000 ? 1 : 2
  }
  return text
}

/** Whether a column may hold values that are longer. */
export function mayExceed(type: LogicalType, nativeType: string, bytes: number): boolean {
  if (type.kind !== 'utf8' && type.kind !== 'binary' && type.kind !== 'json') return false
  if (/^(enum|set)\b/.test(nativeType)) return false
  const longest = Number(/\((\d+)\)$/.exec(nativeType)?.[1] ?? Infinity)
  return longest * (type.kind === 'binary' ? 1 : 4) > bytes
}
