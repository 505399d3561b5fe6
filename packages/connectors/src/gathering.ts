import type { Gathering } from './contract/target.ts'

/** For databases: what there is lands at once. */
export const AS_THEY_COME: Gathering = { changes: 1, waitMs: 0 }
