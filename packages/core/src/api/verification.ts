import type { DatasetName } from '../records/dataset.ts'
import type { AskedVerification, Difference, LaneVerified } from '../definition/verification.ts'

/** A verification as people see it. */
export interface VerificationAnswer extends Omit<AskedVerification, 'pipeline' | 'lanes'> {
  lanes: {
    /** Among those of the pipeline. */
    lane: number
    source: DatasetName
    target: DatasetName
    origin: string | null
    verified: LaneVerified
    /** So many of its differences have been repaired since. */
    repaired: number
  }[]
}

export interface DifferenceAnswer extends Difference {
  id: number
  repairedAt: string | null
}
