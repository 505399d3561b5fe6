import type { DatasetName } from '../records/dataset.ts'

/** A thing to know before the start. What is refused or undecided stands in the way of it; losses and warnings do not. */
export interface PlanNote {
  /** `loss`: rows that are there now go. */
  level: 'refused' | 'undecided' | 'loss' | 'warning'
  message: string
  remedy: string
  /** The exact text that remedies it at the system, where there is one; then its systems are looked at again. */
  paste?: string
  /** What goes was not put there by this pipeline. */
  others?: true
  /** The tables it is about; the setup can take them out. */
  tables?: DatasetName[]
  /** Which section of the setup answers it. */
  section: 'from' | 'to' | 'tables' | 'names' | 'columns' | 'rows' | 'start' | 'name'
}

/** Most harm first. */
const HARM: PlanNote['level'][] = ['refused', 'undecided', 'loss', 'warning']

export function byHarm(a: Pick<PlanNote, 'level'>, b: Pick<PlanNote, 'level'>): number {
  return HARM.indexOf(a.level) - HARM.indexOf(b.level)
}

/** Whether a plan with this note cannot be started. */
export function hinders(note: Pick<PlanNote, 'level'>): boolean {
  return note.level === 'refused' || note.level === 'undecided'
}

/** Names in a sentence: all of a few, else the first with how many there are beside it. */
export function someOf(names: readonly string[]): string {
  if (names.length <= 3)
    return names.length < 2 ? names.join() : `${names.slice(0, -1).join(', ')} and ${names.at(-1)}`
  return `${names[0]} and ${names.length - 1} more`
}

/** Under the same key, in the order in which the keys came first. */
export function grouped<T>(items: readonly T[], keyOf: (item: T) => string): T[][] {
  const groups = new Map<string, T[]>()
  for (const item of items) {
    const key = keyOf(item)
    const group = groups.get(key)
    if (group) group.push(item)
    else groups.set(key, [item])
  }
  return [...groups.values()]
}
