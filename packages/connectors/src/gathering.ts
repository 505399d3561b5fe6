import type { Gathering } from './contract/target.ts'

/** For databases: enough to make a merge worth its fixed cost, and nothing waits. */
export const AS_THEY_COME: Gathering = { changes: 20_000, waitMs: 0 }
