import type { SameBytes } from '@tide/core/verify/ordered-comparison'

export const sameBytes: SameBytes = (a, aAt, b, bAt, length) =>
  Buffer.compare(a.subarray(aAt, aAt + length), b.subarray(bAt, bAt + length)) === 0
