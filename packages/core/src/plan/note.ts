import type { DatasetName } from '../records/dataset.ts'

/** A thing to know before the start. What is refused or undecided stands in the way of it; losses and warnings do not. */
export interface PlanNote {
  /** `loss`: rows that are there now go. */
  level: 'refused' | 'undecided' | 'loss' | 'warning'
  message: string
  remedy: string
  /** The table it is about; the setup can take it out or scroll to it. */
  table?: DatasetName
  /** Which section of the setup answers it. */
  section: 'from' | 'to' | 'tables' | 'name'
}

/** Most harm first. */
const HARM: PlanNote['level'][] = ['refused', 'undecided', 'loss', 'warning']

export function byHarm(a: PlanNote, b: PlanNote): number {
  return HARM.indexOf(a.level) - HARM.indexOf(b.level)
}

/** Whether a plan with this note cannot be started. */
export function hinders(note: PlanNote): boolean {
  return note.level === 'refused' || note.level === 'undecided'
}
