/** What has changed on a side since it was looked at last. */
import type { PlaceSide } from '@tide/connectors/contract/app'
import type { Side } from '@tide/core/merge/rule'
import { readHalf, type CompiledLane } from '@tide/core/two-way/lane'
import type { Half } from '@tide/core/two-way/pair'

export interface Intake {
  records: Map<string, Half>
  /** Keys of records that were deleted, where that is told. */
  gone: string[]
  /** Which records are gone is to be looked for. */
  anew: boolean
  cursor: string | null
}

/** `cursor`: null for all records. `known`: some are known already. */
export async function takeIn(
  app: PlaceSide,
  lane: CompiledLane,
  side: Side,
  { cursor, known }: { cursor: string | null; known: boolean },
  signal: AbortSignal,
): Promise<Intake> {
  const records = new Map<string, Half>()
  const lost: string[] = []
  let [next, isAnew]: [string | null, boolean] = [null, false]
  for await (const { changed, gone, anew, cursor: after } of app.changes(
    lane.objects[side].name,
    cursor,
    signal,
    known,
  )) {
    for (const { id, record, at } of changed) records.set(id, readHalf(lane, side, id, record, at))
    isAnew ||= anew === true
    if (gone) lost.push(...gone)
    if (after !== undefined) next = after
  }
  return { records, gone: lost, anew: isAnew, cursor: next }
}

/** All records as they are now. Nothing is put at the side for it, as it may be for being told of changes. */
export async function readAll(
  app: PlaceSide,
  lane: CompiledLane,
  side: Side,
  signal: AbortSignal,
): Promise<Map<string, Half>> {
  const { name, key } = lane.objects[side]
  const records = new Map<string, Half>()
  for await (const page of app.list(name, { signal }))
    for (const record of page) {
      const id = record[key]
      if (id) records.set(id, readHalf(lane, side, id, record))
    }
  return records
}
