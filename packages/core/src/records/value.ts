import { Failure } from '../failure.ts'

/**
 * A value travels as its canonical text, beside its logical type; nothing is parsed on the way, so nothing
 * can be rounded, truncated or re-zoned. `null` is SQL NULL; `undefined` means *not sent because unchanged*.
 *
 * Canonical text: integers and decimals in decimal digits, `NaN`, `Infinity` and `-Infinity` where the source
 * has them; booleans `t` and `f`; dates and times as ISO 8601 with a space before the time, years before 1 AD
 * with the suffix ` BC`, `infinity` and `-infinity`; zoned timestamps in UTC; intervals as
 * `1 year 2 mons -3 days 04:05:06.7`; binary as `\x` and hexadecimal digits; lists as PostgreSQL prints
 * them (see `list.ts`); json, uuid and text as they are.
 */
export type Value = string | null | undefined

/** One record's values, in the order of the lane's fields. */
export type Row = readonly Value[]

/** The key's values, in the order of the key's columns; a key is always sent and never null. */
export type Key = readonly string[]

export function keyMissing(index: number, value: null | undefined): Failure {
  return new Failure(
    'structural',
    `A change came ${value === null ? 'with NULL in' : 'without'} column ${index + 1}, which is part of the key it was planned with.`,
    'Was the key of the table changed at the source? Start again: its tables are copied anew.',
  )
}

/** A string that is equal for equal keys only. */
export function keyText(key: Key): string {
  return key.length === 1 ? key[0]! : key.map(part => `${part.length}:${part}`).join('')
}

/** Picks the key's values out of a row. Throws a Failure when a key column is null or was not sent. */
export function keyOf(row: Row, keyIndexes: readonly number[]): Key {
  return keyIndexes.map(index => {
    const value = row[index]
    if (value === null || value === undefined) throw keyMissing(index, value)
    return value
  })
}
