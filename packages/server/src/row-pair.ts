import type { RowPair } from '@tide/core/api/types'
import { Failure } from '@tide/core/failure'
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
  if (key && key.length !== lane.key.length) {
    throw new Failure(
      'refused',
      `The key has ${lane.key.length} parts: ${lane.key.join(', ')}.`,
      'Give a value for each.',
    )
  }
  const keyIndexes = lane.key.map(name => lane.columns.findIndex(column => column.source === name))
  const source = await sessions.use(definition.from, session => {
    const columns = lane.columns.map(({ source, type, nativeType }) => ({ name: source, type, nativeType }))
    return session.row({ name: lane.source, columns, key: lane.key }, key)
  })
  const wanted = key ?? (source && keyOf(source, keyIndexes))
  if (!wanted) return { key: [], fields: [], atSource: false, atTarget: false }
  const target = await sessions.use(definition.to, session => {
    const columns = lane.columns.map(({ target, type, targetType }) => ({
      name: target,
      type,
      nativeType: targetType,
    }))
    return session.row(
      { name: lane.target, columns, key: keyIndexes.map(i => lane.columns[i]!.target) },
      wanted,
    )
  })
  return {
    key: [...wanted],
    fields: lane.columns.map((column, i) => ({
      name: column.source,
      target: column.target,
      inKey: keyIndexes.includes(i),
      same: source !== null && target !== null && sameValue(source[i], target[i], column.type),
      source: source?.[i] ?? null,
      there: target?.[i] ?? null,
    })),
    atSource: source !== null,
    atTarget: target !== null,
  }
}
