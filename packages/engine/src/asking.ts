/** What may be asked of a pipeline that runs, and how that is told. */
import type { HeldDeed } from '@tide/core/definition/held'
import { laneOf, type PipelineRecord } from '@tide/core/definition/pipeline'
import { Failure } from '@tide/core/failure'

type FoundLane = NonNullable<ReturnType<typeof laneOf>>

/** These lanes, or all when none is named. Throws a Failure where one is not there, or does not follow. */
export function lanesToCopyAgain(record: PipelineRecord, lanes: readonly number[]): FoundLane[] {
  const chosen = lanes.length > 0 ? lanes : record.lanes.map((_, i) => i)
  const found = chosen.map(lane => {
    const one = laneOf(record, lane)
    if (!one) throw new Failure('refused', `There is no lane ${lane}.`, 'Name one of the lanes.')
    return one
  })
  const other = found.find(({ run }) => run.state !== 'Following')?.run
  if (!other) return found
  throw new Failure('refused', stands(record, other), 'Only what follows can be copied again.')
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
