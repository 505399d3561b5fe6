import type { KeyedTable } from '@tide/connectors/contract/records'
import type { TargetLane } from '@tide/connectors/contract/target'
import { Failure } from '@tide/core/failure'
import type { Lane } from '@tide/core/plan/lane'
import { printName } from '@tide/core/records/dataset'
import { copiedShaper, type ShapeCopied } from '@tide/core/shape/copied'
import type { Shaping } from '@tide/core/shape/written'
import { verifiedLane, type VerifiedLane } from '@tide/core/verify/verified-lane'
import { workingLane } from '../replicate/lanes.ts'

/** A table that is archived, as its slices need it. */
export interface ArchivedLane {
  index: number
  plan: Lane
  source: KeyedTable
  target: TargetLane
  /** Where the parts of its key are in the rows that are read. */
  keyPlaces: number[]
  verified: VerifiedLane
  /** Of rows as they are read, those in scope. Undefined: all are. */
  scoped: ShapeCopied | undefined
  /** What becomes of those for the archive, and to be held against what stands there. Undefined: nothing. */
  landing: ShapeCopied | undefined
  comparing: ShapeCopied | undefined
}

export function archivedLane(plan: Lane, index: number, shaping: Shaping): ArchivedLane {
  const { source, target } = workingLane(plan, index, shaping)
  const verified = verifiedLane(plan, shaping)
  if ('because' in verified) {
    throw new Failure(
      'structural',
      `${printName(plan.source)} cannot be archived, for what is archived could not be verified: ${verified.because}.`,
      'Leave it out, or take its rules out.',
    )
  }
  const asRead = plan.reads.map(column => ({
    ...column,
    value: { from: 'column' as const, column: column.name },
  }))
  return {
    index,
    plan,
    source: { ...source, key: verified.sourceKey },
    target,
    keyPlaces: verified.sourceKey.map(name => plan.reads.findIndex(column => column.name === name)),
    verified,
    scoped: copiedShaper({ ...plan, writes: asRead }, shaping),
    landing: copiedShaper({ ...plan, scope: null }, shaping),
    comparing: copiedShaper({ ...verified.lane, scope: null }, shaping),
  }
}
