import type { RowPair } from '@tide/core/api/rows'
import { Failure } from '@tide/core/failure'
import { connectionOf } from '@tide/core/definition/origins'
import type { PipelineRecord } from '@tide/core/definition/pipeline'
import { madeOf, type Lane } from '@tide/core/plan/lane'
import { sameValue } from '@tide/core/records/same'
import { keyOf, type Key, type Row, type Value } from '@tide/core/records/value'
import { madeColumns, type Coming, type Made } from '@tide/core/shape/written'
import { keyedHash } from '@tide/engine/keyed-hash'
import type { Services } from './services.ts'

/** Only columns that are made of the source's are compared, which do not ask how their row came. */
const NO_MATTER_HOW: Coming = { op: 'copy', committedAt: null, position: null, landedAt: '' }

/**
 * One record on both sides of a lane; without a key, the last one in the source's key order. What is masked is shown masked
 * on both sides.
 */
export async function rowPair(
  {
    sessions,
    store,
  }: { sessions: Pick<Services['sessions'], 'use'>; store: Pick<Services['store'], 'maskKey'> },
  { definition, lanes, origin }: PipelineRecord,
  index: number,
  key: Key | null,
): Promise<RowPair> {
  const lane = lanes[index]
  if (!lane) throw new Failure('refused', `There is no lane ${index}.`, 'Choose one of the lanes.')
  if (key && key.length !== lane.identity.length) {
    throw new Failure(
      'refused',
      `The key has ${lane.identity.length} parts: ${lane.identity.join(', ')}.`,
      'Give a value for each.',
    )
  }
  const identity = lane.identity.map(name => lane.reads.findIndex(column => column.name === name))
  const source = await sessions.use(connectionOf(definition, origin === '' ? lane : {}), session =>
    session.row({ dataset: lane.source, columns: lane.reads, key: lane.identity }, key),
  )
  const wanted = key ?? (source && keyOf(source, identity))
  if (!wanted) return { key: [], fields: [], atSource: false, atTarget: false }
  const made = madeColumns(lane, { origin: lane.origin ?? '', hash: keyedHash(store.maskKey) })
  const there = keyAtTarget(lane, made, source, wanted)
  // Where the source has no such row any more, it does not tell under which key the target would have it.
  const target = isKey(there)
    ? await sessions.use(definition.to, session =>
        session.row({ dataset: lane.target, columns: lane.writes, key: lane.key }, there),
      )
    : null
  return pairOf(lane, made, wanted, source, target)
}

/** What the key is at the target; a part is undefined where it is made of columns beside the source's key, and there is no row. */
export function keyAtTarget(lane: Lane, made: readonly Made[], source: Row | null, key: Key): Value[] {
  const row: Value[] = [...(source ?? [])]
  lane.identity.forEach((name, part) => {
    row[lane.reads.findIndex(column => column.name === name)] = key[part]!
  })
  return lane.key.map(name => {
    const place = lane.writes.findIndex(column => column.name === name)
    return made[place]!.make(row, NO_MATTER_HOW)
  })
}

/** The columns that are made of the source's row, on both sides. `source`, `target`: in the order in which they are read and written. */
export function pairOf(
  lane: Lane,
  made: readonly Made[],
  key: Key,
  source: Row | null,
  target: Row | null,
): RowPair {
  return {
    key: [...key],
    fields: lane.writes.flatMap((column, i) => {
      const { ofRow, make } = made[i]!
      if (!ofRow) return []
      const name = madeOf(column) ?? column.name
      const expected = source && (make(source, NO_MATTER_HOW) ?? null)
      return {
        name,
        target: column.name,
        inKey: lane.key.includes(column.name),
        same: source !== null && target !== null && sameValue(expected, target[i], column.type),
        source: expected,
        there: target?.[i] ?? null,
      }
    }),
    atSource: source !== null,
    atTarget: target !== null,
  }
}

function isKey(parts: readonly Value[]): parts is Key {
  return parts.every(part => part !== null && part !== undefined)
}
