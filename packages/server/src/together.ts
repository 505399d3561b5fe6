/** An archive and what still lives at its source, asked about as one table. */
import type { QueryLimits } from '@tide/connectors/contract/session'
import type { Grid } from '@tide/core/api/browse'
import { doesOf } from '@tide/core/definition/definition'
import { sourceOf, type PipelineRecord } from '@tide/core/definition/pipeline'
import { Failure } from '@tide/core/failure'
import { countLines, wholeLines } from '@tide/core/records/csv-lines'
import { printName } from '@tide/core/records/dataset'
import { copiedShaper } from '@tide/core/shape/copied'
import { archivedLane } from '@tide/engine/shapes/archive/lane'
import { keyedHash } from '@tide/engine/keyed-hash'
import type { Services } from './services.ts'

/** So many live rows are brought beside the archive, at most. */
const MOST_ROWS = 5_000_000

export async function together(
  { sessions, store }: Pick<Services, 'sessions' | 'store'>,
  record: PipelineRecord,
  index: number,
  sql: string,
  limits: QueryLimits,
): Promise<Grid> {
  const lane = record.lanes[index]
  if (!lane || doesOf(record.definition) !== 'archive')
    throw new Failure('refused', 'Only archives are looked at together with their source.', 'Start it first.')
  const shaping = { origin: '', hash: keyedHash(store.maskKey) }
  const { source, target, verified } = archivedLane(lane, index, shaping)
  const { order, quotedAtSource: quoted } = verified
  return sessions.use(sourceOf(record), from =>
    sessions.use(record.definition.to, to => {
      if (!from.ordered || !to.together)
        throw new Failure('refused', 'The two cannot be looked at together.', 'Ask each of them in Query.')
      const shape = copiedShaper({ ...lane, scope: null }, shaping)
      const { ordered } = from
      // What an answer may hold says nothing about what is brought for it.
      const { timeoutMs, signal } = limits
      const live = async function* () {
        let rows = 0
        const table = { ...source, order, quoted, most: MOST_ROWS + 1 }
        for await (const lines of wholeLines(ordered(table, { timeoutMs, signal }))) {
          rows += countLines(lines).count
          if (rows > MOST_ROWS)
            throw new Failure(
              'refused',
              `${printName(lane.source)} still has more than ${MOST_ROWS.toLocaleString('en')} rows, which are too many to bring beside the archive.`,
              'Ask each of them in Query.',
            )
          yield shape?.(lines, { position: null, landedAt: new Date().toISOString() }) ?? lines
        }
      }
      return to.together(target, live(), sql, limits)
    }),
  )
}
