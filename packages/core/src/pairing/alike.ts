/** What makes values of two sides comparable, so that records that are there on both can be found to be the same. */
import anyAscii from 'any-ascii'
import type { Value } from '../merge/form.ts'

export const MADE_ALIKE = ['case', 'spaces', 'digits only'] as const

/** `case`: upper or lower is the same. `spaces`: however many, wherever they stand at the ends. `digits only`: such as for telephone numbers. */
export type MadeAlike = (typeof MADE_ALIKE)[number]

/** null: there is nothing to compare. */
export function madeAlike(value: Value, ways: readonly MadeAlike[]): Value {
  if (value === null) return null
  let text = value.normalize('NFC')
  if (ways.includes('digits only')) text = text.replace(/\D+/g, '')
  if (ways.includes('spaces')) text = text.trim().replace(/\s+/g, ' ')
  if (ways.includes('case')) text = text.toLowerCase()
  return text === '' ? null : text
}

/** Letters and digits alone, without accents: what people may write one way or another. */
export function loosened(value: Value): Value {
  if (value === null) return null
  const text = anyAscii(value)
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, '')
  return text === '' ? null : text
}
