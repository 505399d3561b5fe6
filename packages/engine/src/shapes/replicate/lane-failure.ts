import { Failure, type FailureKind } from '@tide/core/failure'

/** What one lane alone cannot go on with. */
export class LaneFailure extends Failure {
  /** Among the lanes of the pipeline. */
  readonly index: number

  constructor(index: number, kind: FailureKind, message: string, remedy: string) {
    super(kind, message, remedy)
    this.index = index
  }
}
