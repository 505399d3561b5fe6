import type { RowPair } from '@tide/core/api/rows'
import { Failure } from '@tide/core/failure'
import { takenFrom } from '@tide/core/plan/lane'
import { sameValue } from '@tide/core/records/same'
import { keyOf, type Key } from '@tide/core/records/value'
import type { PipelineRecord } from '@tide/core/definition/pipeline'
import type { SessionCache } from './sessions.ts'

/** One record on both sides of a lane; without a key, the last one in the source's key order. */
export async function rowPair(
  sessions: SessionCache,
  { definition, lanes }: PipelineRecord,
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
  const source = await sessions.use(definition.from, session =>
    session.row({ dataset: lane.source, columns: lane.reads, key: lane.identity }, key),
  )
  const wanted = key ?? (source && keyOf(source, identity))
  if (!wanted) return { key: [], fields: [], atSource: false, atTarget: false }
  const target = await sessions.use(definition.to, session =>
    session.row({ dataset: lane.target, columns: lane.writes, key: lane.key }, wanted),
  )
  return {
    key: [...wanted],
    fields: lane.writes.map((column, i) => {
      const taken = takenFrom(column)
      const place = lane.reads.findIndex(({ name }) => name === taken)
      return {
        name: taken ?? column.name,
        target: column.name,
        inKey: lane.key.includes(column.name),
        same: source !== null && target !== null && sameValue(source[place], target[i], column.type),
        source: source?.[place] ?? null,
        there: target?.[i] ?? null,
      }
    }),
    atSource: source !== null,
    atTarget: target !== null,
  }
}
