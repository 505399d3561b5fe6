import type { RowPair } from '@tide/core/api/rows'
import { connectionOf } from '@tide/core/definition/origins'
import type { PipelineRecord } from '@tide/core/definition/pipeline'
import { Failure } from '@tide/core/failure'
import type { Lane } from '@tide/core/plan/lane'
import type { Key } from '@tide/core/records/value'
import { madeColumns } from '@tide/core/shape/written'
import { verifiedLane } from '@tide/core/verify/verified-lane'
import { keyedHash } from '@tide/engine/keyed-hash'
import { pairOf } from './row-pair.ts'
import type { Services } from './services.ts'

/** The row of a difference as it stands on both sides now. `key`: as the verification has found it. */
export async function differencePair(
  { sessions, store }: Services,
  { definition, origin }: PipelineRecord,
  lane: Lane,
  key: Key,
): Promise<RowPair> {
  const shaping = { origin: lane.origin ?? '', hash: keyedHash(store.maskKey) }
  const verified = verifiedLane(lane, shaping)
  if ('because' in verified || verified.sourceKey.length !== key.length)
    throw new Failure('refused', 'The setup has changed since.', 'Verify again.')
  const from = connectionOf(definition, origin === '' ? lane : {})
  const only = lane.writes.flatMap(({ name, value }) =>
    value.from === 'origin' ? [{ column: name, is: shaping.origin }] : [],
  )
  const source = { dataset: lane.source, columns: lane.reads, key: verified.sourceKey }
  const target = {
    dataset: lane.target,
    columns: lane.writes,
    key: verified.keyPlaces.map(place => verified.lane.writes[place]!.name),
    only,
  }
  const [here, there] = await Promise.all([
    sessions.use(from, async session => (await session.rows?.(source, [key])) ?? []),
    sessions.use(definition.to, async session => (await session.rows?.(target, [key])) ?? []),
  ])
  return pairOf(lane, madeColumns(lane, shaping), key, here[0] ?? null, there[0] ?? null)
}
