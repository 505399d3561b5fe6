/**
 * How long to wait before try number `attempt` (1 = the first repeat), in milliseconds: doubling from half a second
 * to half a minute, with full jitter on the upper half. `random` is between 0 and 1.
 */
export function backoff(attempt: number, random: number): number {
  const ceiling = Math.min(30_000, 500 * 2 ** (attempt - 1))
  return ceiling / 2 + (ceiling / 2) * random
}
