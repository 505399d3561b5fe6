import type { RewindForesight } from '@tide/core/api/rewind'
import type { PipelineRecord } from '@tide/core/definition/pipeline'
import { Failure } from '@tide/core/failure'
import { comparePositions } from '@tide/core/position/order'
import type { Position } from '@tide/core/position/position'
import { printName } from '@tide/core/records/dataset'
import type { Journal } from '@tide/journal/journal'
import type { Place } from '@tide/journal/place'
import { coverageOf, isoOf, spanBetween } from './look-back.ts'

/** How long changes are counted before it is said that there are more. */
const COUNT_MS = 2_000

/** What it would do to let a run that stands at `present` go on from another place of its source's journal. */
export async function foreseeRewind(
  journal: Journal,
  { id, origin, lanes }: Pick<PipelineRecord, 'id' | 'origin' | 'lanes'>,
  present: Position,
  { position: at, next }: Place,
): Promise<RewindForesight> {
  const position = journal.position(at)
  const order = comparePositions(position, present)
  if (order === 'unknown') {
    throw new Failure(
      'refused',
      'The journal is of another incarnation of the source than the pipeline.',
      'Start again: the tables are copied anew.',
    )
  }
  const [from, upTo] = order === 'before' ? [position, present] : [present, position]
  const tables = lanes.map(({ source, reads, identity, leftOut }) => ({
    dataset: source,
    columns: reads,
    key: identity,
    since: null,
    leftOut,
  }))
  const began = Date.now()
  const isLate = () => Date.now() - began > COUNT_MS
  const span = await spanBetween(journal, tables, from.at, upTo.at, isLate)
  const covered = coverageOf(journal, tables)
  return {
    run: id,
    origin,
    way: order === 'same' ? 'nowhere' : order === 'before' ? 'back' : 'forward',
    present: present.at,
    position: at,
    next: next && isoOf(next.at),
    transactions: span.transactions,
    counted: span.counted,
    lanes: lanes.map(({ source }, i) => {
      const begins = covered[i]
      const later = begins && comparePositions(begins, position) === 'after'
      return { source: printName(source), changes: span.changes[i]!, from: later ? begins.at : null }
    }),
  }
}
