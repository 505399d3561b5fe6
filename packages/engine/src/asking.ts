/** What may be asked of a pipeline that runs, and how that is told. */
import { doesOf } from '@tide/core/definition/definition'
import type { HeldDeed } from '@tide/core/definition/held'
import type { AskedVerification, RepairDeed } from '@tide/core/definition/verification'
import { laneOf, type PipelineRecord } from '@tide/core/definition/pipeline'
import { Failure } from '@tide/core/failure'

type FoundLane = NonNullable<ReturnType<typeof laneOf>>

/** These lanes, or all when none is named, with their places in the pipeline. Throws a Failure where one is not there. */
function lanesAsked(record: PipelineRecord, lanes: readonly number[]): (FoundLane & { place: number })[] {
  const chosen = lanes.length > 0 ? [...new Set(lanes)] : record.lanes.map((_, i) => i)
  return chosen.map(place => {
    const one = laneOf(record, place)
    if (!one) throw new Failure('refused', `There is no lane ${place}.`, 'Name one of the lanes.')
    return { ...one, place }
  })
}

/** Throws a Failure where one is not there, or does not follow, with what to do then. */
export function lanesFollowed(record: PipelineRecord, lanes: readonly number[], remedy: string): FoundLane[] {
  const found = lanesAsked(record, lanes)
  const other = found.find(({ run }) => run.state !== 'Following')?.run
  if (!other) return found
  throw new Failure('refused', stands(record, other), remedy)
}

/** Throws a Failure where one is not there, or does not run. */
export function lanesToVerify(record: PipelineRecord, lanes: readonly number[]): AskedVerification['lanes'] {
  const found = lanesAsked(record, lanes)
  if (found.length === 0)
    throw new Failure('refused', `“${record.definition.name}” has no tables yet.`, 'Start it first.')
  const other = found.find(({ run }) => run.state !== 'Following' && run.state !== 'Copying')?.run
  if (!other && doesOf(record.definition) !== 'structure')
    return found.map(({ run, index, place }) => ({ run: run.id, index, lane: place }))
  throw new Failure(
    'refused',
    stands(record, other ?? record),
    'Only what follows can be held against its source.',
  )
}

/** Throws a Failure where a run of the pipeline cannot go on from elsewhere as it stands. */
export function refuseMoving(record: PipelineRecord, run: PipelineRecord): void {
  const { state, reason, wanted } = run
  if (state === 'Following' || state === 'Paused') return
  if (state === 'Stopped' && reason?.kind !== 'person' && wanted !== 'stop') return
  throw new Failure(
    'refused',
    stands(record, run),
    state === 'Copying' ? 'Wait until it is copied.' : 'Start it again.',
  )
}

function stands({ definition }: PipelineRecord, { origin, state }: PipelineRecord): string {
  return `“${definition.name}”${origin === '' ? '' : ` of ${origin}`} is ${state.toLowerCase()}.`
}

export function heldSaid(deed: HeldDeed): string {
  const { length } = deed.ids
  const what = length === 1 ? '1 held record' : `${length.toLocaleString('en')} held records`
  switch (deed.deed) {
    case 'retry':
      return `Asked to try ${what} again.`
    case 'correct':
      return `Corrected ${what}: ${Object.keys(deed.values).join(', ')}.`
    case 'drop':
      return `Let ${what} be: ${deed.note}`
  }
}

export function verificationSaid({ level, lanes }: Pick<AskedVerification, 'level' | 'lanes'>): string {
  const which = lanes.length === 1 ? '1 lane' : `${lanes.length.toLocaleString('en')} lanes`
  return level === 'counts'
    ? `Count of the rows of ${which} asked for.`
    : `Verification of ${which} asked for.`
}

export function repairSaid({ ids }: RepairDeed): string {
  if (ids.length === 0) return 'Asked to repair all rows that differ.'
  return ids.length === 1
    ? 'Asked to repair 1 row.'
    : `Asked to repair ${ids.length.toLocaleString('en')} rows.`
}
