/** Failures that nobody has foreseen: tried again a few times, since they may pass, and then given up. */
import type { Failure } from '@tide/core/failure'

const TRIES = 5
/** What has not come again for so long has passed. */
const FORGOTTEN_AFTER_MS = 600_000

export class Faults {
  private readonly counts = new Map<string, { count: number; at: number }>()

  /** Whether the failure has come so often that trying again is of no use. */
  isHopeless({ kind, message }: Failure, now: number): boolean {
    if (kind !== 'fault') return false
    const before = this.counts.get(message)
    const count = before && now - before.at < FORGOTTEN_AFTER_MS ? before.count + 1 : 1
    this.counts.set(message, { count, at: now })
    return count >= TRIES
  }
}
