/** What was asked of a pipeline, and what has come of it; `waiting`: the pipeline gets to it when it goes on. */
export interface ErrandOutcome {
  state: 'waiting' | 'done' | 'refused'
  outcome: string | null
}
