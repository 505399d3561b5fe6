/**
 * Seconds since the oldest change that has not landed was committed, by the source's clock; 0 when the source's
 * head is known and reached; `null` when it is not known.
 */
export function lagSeconds(head: { now: string; oldestPending: string | null } | null): number | null {
  if (!head) return null
  if (head.oldestPending === null) return 0
  return Math.max(0, (Date.parse(head.now) - Date.parse(head.oldestPending)) / 1000)
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
