import type { Plan } from '../plan/plan.ts'

export interface PlanAnswer extends Plan {
  /** Says of a start that it is to do just this, or be refused; empty where there is nothing to start. */
  digest: string
  /** Statements at the target, in order. */
  statements: string[]
  sourceStatements: string[]
  captureNote: string
  /** Seconds the copy should take by the last one between the two; `null` when there was none. */
  estimateSeconds: number | null
}

/** Of what there is no plan for. */
export const NO_PLAN: PlanAnswer = {
  digest: '',
  lanes: [],
  steps: [],
  notes: [],
  rows: 0,
  bytes: 0,
  statements: [],
  sourceStatements: [],
  captureNote: '',
  estimateSeconds: null,
}
