/** Sends rows again that a verification has found to differ, as they stand at the source now, in the pipeline's own order. */
import type { Stream } from '@tide/core/checkpoint/checkpoint'
import type { RepairDeed } from '@tide/core/definition/verification'
import { Failure } from '@tide/core/failure'
import { keyOf, type Key } from '@tide/core/records/value'
import type { SourceTransaction } from '@tide/core/records/change'
import type { FoldedKey } from '@tide/core/apply/fold'
import type { VerificationRepository } from '../../../repositories.ts'
import { landStates } from '../land-states.ts'
import type { OpenPipeline } from '../open.ts'
import { standingState } from '../shapes.ts'
import type { LaneSides } from './sides.ts'

const AT_ONCE = 500

/** Says what was done. Repeating it is safe: what a change has put right since is written as it stands. */
export async function repair(
  open: OpenPipeline,
  sides: LaneSides,
  run: string,
  verifications: VerificationRepository,
  deed: RepairDeed,
): Promise<string> {
  const { checkpoint, clock } = open
  const { lane, keyId } = sides
  const differences = await verifications.toRepair(run, deed)
  if (differences.length === 0) return 'None of them is left to be repaired.'
  let [written, removed] = [0, 0]
  for (let from = 0; from < differences.length; from += AT_ONCE) {
    const some = differences.slice(from, from + AT_ONCE)
    const at = clock()
    const transaction: SourceTransaction = { id: '', start: checkpoint.now.position.at, at, events: [] }
    const rows = new Map(
      (await sides.sourceRows(some.map(({ key }) => key))).map(row => [keyId(sides.sourceKeyOf(row)), row]),
    )
    const states = some.map(({ key }): FoldedKey => {
      const row = rows.get(keyId(key))
      if (row) written++
      else removed++
      return row
        ? standingState(keyOf(row, lane.identityIndexes), row, transaction)
        : standingState(identityOf(sides, key), null, transaction, 'delete')
    })
    await landStates(lane, states, open, (_, write, counted) =>
      checkpoint.commit(now => counted(ahead(now)), write),
    )
    open.runs.count('repair', { rows: some.length, reads: rows.size, writes: 1 })
    await verifications.repaired(
      some.map(({ id }) => id),
      clock(),
    )
  }
  const n = (rows: number) => (rows === 1 ? '1 row' : `${rows.toLocaleString('en')} rows`)
  return [
    ...(written > 0
      ? [`${n(written)} written as ${written === 1 ? 'it stands' : 'they stand'} at the source`]
      : []),
    ...(removed > 0 ? [`${n(removed)} that the source does not have taken away`] : []),
  ].join(', ')
}

/** Rows are there as of now, ahead of what else has landed. */
function ahead(stream: Stream): Stream {
  return { ...stream, consistent: false }
}

/** Of a row that the source does not have. */
function identityOf({ verified, lane }: LaneSides, key: Key): Key {
  return lane.plan.identity.map(name => {
    const place = verified.sourceKey.indexOf(name)
    if (place >= 0) return key[place]!
    throw new Failure(
      'refused',
      'The source does not have some of these rows, and which they were there is not known by their key at the target.',
      'Copy the table again.',
    )
  })
}
