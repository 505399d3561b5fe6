/** Which rows of a table take part, by the scopes whose patterns it matches. */
import { matcherOf, pathOf } from '../naming/pattern.ts'
import { printName, type Dataset } from '../records/dataset.ts'
import type { Condition } from '../scope/condition.ts'
import { asOf } from '../scope/relative.ts'
import { predicateOf } from '../scope/predicate.ts'
import type { PlanInput } from './input.ts'
import type { PlanNote } from './note.ts'

export interface PlannedScope {
  scope: Condition | null
  /** The columns that it looks at. */
  columns: string[]
}

/** The scopes, and which of them some table has matched. */
export class Scopes {
  readonly working = new Set<number>()
  private readonly scopes: { where: Condition; matches(path: string): boolean }[]

  constructor(scopes: NonNullable<PlanInput['scopes']>) {
    this.scopes = scopes.map(({ like, where }) => ({ where, matches: matcherOf(like) }))
  }

  /** What is wrong with a scope is refused in the notes. */
  of(dataset: Dataset, notes: PlanNote[]): PlannedScope {
    const { namespace, name, fields } = dataset
    const path = pathOf(namespace, name)
    const conditions = this.scopes.flatMap(({ where, matches }, index) => {
      if (!matches(path)) return []
      this.working.add(index)
      return [where]
    })
    if (conditions.length === 0) return { scope: null, columns: [] }
    const scope = conditions.length === 1 ? conditions[0]! : { all: conditions }
    const columns = fields.filter(({ notCaptured }) => !notCaptured)
    // As of any moment: what is wrong with it is always wrong.
    const predicate = predicateOf(asOf(scope, columns, '2000-01-01T00:00:00.000Z'), columns)
    if (!('message' in predicate)) return { scope, columns: predicate.columns }
    notes.push({
      level: 'refused',
      message: `The scope of ${printName(dataset)}: ${predicate.message}`,
      remedy: predicate.remedy,
      tables: [{ namespace, name }],
      section: 'rows',
    })
    return { scope: null, columns: [] }
  }
}
