/** Sources tell now and then that there is no more; so long after that, it is taken for true. */
const REACHED_HOLDS_S = 4

/** What is known of how far a source is ahead; times by its clock. */
export interface KnownHead {
  now: string
  oldestPending: string | null
  /** There is nothing more than what is pending up to here. */
  completeUpTo: string | null
}

/**
 * Seconds since the oldest change that has not landed was committed, by the source's clock; 0 when the source's head is
 * reached; `null` when nothing is known. Where it has been a while since the head was known, there may have been
 * changes ever since.
 */
export function lagSeconds(head: KnownHead | null): number | null {
  if (!head) return null
  const since = (time: string) => Math.max(0, (Date.parse(head.now) - Date.parse(time)) / 1000)
  if (head.oldestPending !== null) return since(head.oldestPending)
  if (head.completeUpTo === null) return null
  const unknownFor = since(head.completeUpTo)
  return unknownFor > REACHED_HOLDS_S ? unknownFor : 0
}

/** How deep a lag is, for tints and the depth strip: 0 at 1 s and less, 1 at an hour and more, logarithmic. */
export function depth(seconds: number): number {
  if (seconds <= 1) return 0
  return Math.min(1, Math.log(seconds) / Math.log(3600))
}

/** One of four tints, deeper = further behind; 0 is caught up (a second or less). */
export function tint(seconds: number): 0 | 1 | 2 | 3 | 4 {
  if (seconds <= 1) return 0
  if (seconds <= 5) return 1
  if (seconds <= 30) return 2
  return seconds <= 300 ? 3 : 4
}
