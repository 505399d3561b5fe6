import type { RunRecord } from '../definition/run.ts'

/** A run as it is told; `pipeline` is the one that it belongs to. */
export interface RunAnswer extends RunRecord {
  pipelineName: string
  /** The tag of the origin; empty where there is one source. */
  origin: string
}
