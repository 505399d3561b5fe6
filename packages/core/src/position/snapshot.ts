/**
 * PostgreSQL snapshots (`pg_snapshot`, printed `xmin:xmax:xip,…`) as positions of a change table.
 * https://www.postgresql.org/docs/current/functions-info.html#FUNCTIONS-INFO-SNAPSHOT
 */
import type { PositionOrder } from './position.ts'

export interface Snapshot {
  xmin: bigint
  xmax: bigint
  /** Transactions in progress between xmin and xmax. */
  inProgress: ReadonlySet<bigint>
}

/**
 * Where a reader of the change table stands: everything that `seen` sees is done. On the way to a later snapshot
 * `toward`, the transactions whose highest sequence number is at most `last` are done too.
 */
export interface ChangeTablePlace {
  seen: string
  toward?: string
  last?: bigint
}

/** Parses `xmin:xmax:xip,…`. Throws on anything else. */
export function parseSnapshot(text: string): Snapshot {
  const match = /^(\d+):(\d+):((?:\d+(?:,\d+)*)?)$/.exec(text)
  if (!match) throw new Error(`not a PostgreSQL snapshot: ${text}`)
  const inProgress = match[3] === '' ? [] : match[3]!.split(',').map(BigInt)
  return { xmin: BigInt(match[1]!), xmax: BigInt(match[2]!), inProgress: new Set(inProgress) }
}

/** Whether the effects of a committed transaction are seen by the snapshot. */
export function sees(snapshot: Snapshot, xid: bigint): boolean {
  if (xid < snapshot.xmin) return true
  return xid < snapshot.xmax && !snapshot.inProgress.has(xid)
}

/** Whether one snapshot sees all that the other sees, and more. Snapshots of one server are never incomparable. */
export function compareSnapshots(a: string, b: string): PositionOrder {
  if (a === b) return 'same'
  const [left, right] = [parseSnapshot(a), parseSnapshot(b)]
  const leftSeesMore = seesBeyond(left, right)
  const rightSeesMore = seesBeyond(right, left)
  if (leftSeesMore && rightSeesMore) return 'unknown'
  if (leftSeesMore) return 'after'
  return rightSeesMore ? 'before' : 'same'
}

function seesBeyond(a: Snapshot, b: Snapshot): boolean {
  for (const xid of b.inProgress) if (sees(a, xid)) return true
  for (let xid = b.xmax; xid < a.xmax; xid++) if (sees(a, xid)) return true
  return false
}

/** `seen`, or `seen > toward @last` on the way to a later snapshot. */
export function printPlace({ seen, toward, last = 0n }: ChangeTablePlace): string {
  return toward === undefined ? seen : `${seen} > ${toward} @${last}`
}

/** The inverse of `printPlace`. Throws on anything else. */
export function parsePlace(text: string): ChangeTablePlace {
  // Earlier versions could also stand within a transaction, behind a slash.
  const match = /^([\d:,]+)(?: > ([\d:,]+) @(\d+)(?:\/\d+)?)?$/.exec(text)
  if (!match) throw new Error(`not a place in a change table: ${text}`)
  parseSnapshot(match[1]!)
  if (match[2] === undefined) return { seen: match[1]! }
  parseSnapshot(match[2])
  return { seen: match[1]!, toward: match[2], last: BigInt(match[3]!) }
}

/**
 * How one place stands to another on the way of one reader, who goes from snapshot to snapshot and stops at each that was
 * given out as a position.
 */
export function comparePlaces(a: string, b: string): PositionOrder {
  if (a === b) return 'same'
  const [left, right] = [parsePlace(a), parsePlace(b)]
  if (left.seen !== right.seen) return compareSnapshots(left.seen, right.seen)
  if (left.toward === undefined) return 'before'
  if (right.toward === undefined) return 'after'
  if (left.toward !== right.toward) return 'unknown'
  return left.last! < right.last! ? 'before' : left.last! > right.last! ? 'after' : 'same'
}
