/** What the types of MariaDB do not hold of the types that they stand for. */
import type { LogicalType } from '../records/types.ts'
import type { Holds } from './rehearsal.ts'

/** Undefined where a type holds all. */
export function mariadbHolds(type: LogicalType, nativeType: string): Holds | undefined {
  const native = nativeType.toLowerCase()
  if (type.kind === 'float')
    return text => (Number.isFinite(Number(text)) ? undefined : `${text} does not fit there`)
  if (/^(date|datetime)\b/.test(native))
    return text =>
      /^\d{4}-/.test(text) && !text.includes('BC') && !text.startsWith('0000')
        ? undefined
        : `${text.slice(0, 40)} does not fit there`
  const [, size] = /^varchar\((\d+)\)/.exec(native) ?? []
  if (size) return text => longer([...text].length, Number(size), 'characters')
  const [, bytes] = /^varbinary\((\d+)\)/.exec(native) ?? []
  // `\x` and two digits a byte.
  if (bytes) return text => longer((text.length - 2) / 2, Number(bytes), 'bytes')
  return undefined
}

function longer(length: number, most: number, what: string): string | undefined {
  return length > most ? `it is ${length} ${what} long, and ${most} is the most` : undefined
}
