import type { TideSample } from '@tide/core/pace/tide'
import type { Runner } from './runner.ts'

/** How far back the depth strip goes. */
export const STRIP_MINUTES = 60

/** What an engine has of one pipeline. */
export interface Kept {
  /** Stays after its run, for what it knows; gone when another engine has the pipeline. */
  runner: Runner | undefined
  /** Set for as long as the runner runs. */
  running: Promise<void> | undefined
  /** It is being ended here so that another engine can have it. */
  giving: boolean
  /** Errands that the runner was told of. */
  errandsTold: string
  /** One reading a minute for the depth strip, and the readings of the minute under way. */
  minutes: TideSample[]
  /** By resolution and table, the reading that was kept last. */
  lanesTold: Map<string, string>
  sample: TideSample | null
}
