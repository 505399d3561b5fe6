/** Masks: what of a value reaches a target whose readers must not see it. */
import { Type, type Static } from 'typebox'

export const maskSchema = Type.Union([
  /** Equal values stay equal, so that joins still work: HMAC-SHA-256 in hexadecimal digits (RFC 2104). */
  Type.Object({ mask: Type.Literal('hash') }, { additionalProperties: false }),
  /** Stars but for so many characters at its ends; all stars where it is no longer than those. */
  Type.Object(
    {
      mask: Type.Literal('ends'),
      first: Type.Integer({ minimum: 0, maximum: 100 }),
      last: Type.Integer({ minimum: 0, maximum: 100 }),
    },
    { additionalProperties: false },
  ),
  Type.Object(
    { mask: Type.Literal('constant'), by: Type.String({ title: 'What it becomes', maxLength: 2000 }) },
    { additionalProperties: false },
  ),
  Type.Object({ mask: Type.Literal('nothing') }, { additionalProperties: false }),
])

export type Mask = Static<typeof maskSchema>

/** `hash`: the keyed hash, in hexadecimal digits. A null stays null, but for a constant, which hides that as well. */
export function masking(mask: Mask, hash: (text: string) => string): (value: string | null) => string | null {
  switch (mask.mask) {
    case 'hash':
      return value => (value === null ? null : hash(value))
    case 'ends':
      return value => (value === null ? null : withEnds(value, mask.first, mask.last))
    case 'constant':
      return () => mask.by
    case 'nothing':
      return () => null
  }
}

function withEnds(value: string, first: number, last: number): string {
  const letters = [...value]
  const hidden = letters.length - first - last
  if (hidden <= 0) return '*'.repeat(letters.length)
  return letters.slice(0, first).join('') + '*'.repeat(hidden) + letters.slice(letters.length - last).join('')
}

/** A mask in words. */
export function printMask(mask: Mask): string {
  switch (mask.mask) {
    case 'hash':
      return 'a keyed hash'
    case 'ends':
      return `stars but for the first ${mask.first} and the last ${mask.last}`
    case 'constant':
      return `always “${mask.by}”`
    case 'nothing':
      return 'null'
  }
}
