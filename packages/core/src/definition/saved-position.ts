import type { Position } from '../position/position.ts'

/** Where a pipeline stood at a moment that people may want to go back to. */
export interface SavedPosition {
  id: number
  pipeline: string
  /**
   * `start`: captured from there on · `copied`: the copy was done · `pause`, `stop` · `change`: of its plan · `rewind`: from
   * where it was rewound · `mark`: somebody set it.
   */
  kind: 'start' | 'copied' | 'pause' | 'stop' | 'change' | 'rewind' | 'mark'
  /** By our clock, ISO 8601. */
  at: string
  position: Position
  /** What had landed then, by the source's clock. */
  completeUpTo: string | null
  note: string | null
}
