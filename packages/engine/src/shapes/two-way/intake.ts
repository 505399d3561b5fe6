/** What has changed on a side since it was looked at last. */
import type { AppSide } from '@tide/connectors/contract/app'
import type { Side } from '@tide/core/merge/rule'
import { halfOf, type CompiledLane } from '@tide/core/two-way/lane'
import type { Half } from '@tide/core/two-way/pair'

export interface Intake {
  records: Map<string, Half>
  cursor: string | null
}

/** `cursor`: null for all records. */
export async function takeIn(
  app: AppSide,
  lane: CompiledLane,
  side: Side,
  cursor: string | null,
  signal: AbortSignal,
): Promise<Intake> {
  const records = new Map<string, Half>()
  let next: string | null = null
  for await (const { changed, cursor: after } of app.changes(lane.objects[side].name, cursor, signal)) {
    for (const { id, record } of changed) records.set(id, halfOf(lane, side, id, record))
    if (after !== undefined) next = after
  }
  return { records, cursor: next }
}
