/** By what records of two sides are found to be the same. */
import type { Value } from '../merge/form.ts'
import type { MadeAlike } from './alike.ts'

/** All of the fields must be the same, and there. */
export interface PairingRule {
  fields: { a: string; b: string; alike: MadeAlike[] }[]
}

export interface PairingRecord {
  id: string
  fieldOf(field: string): Value
}
