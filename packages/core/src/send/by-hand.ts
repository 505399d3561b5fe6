/**
 * What a person has said of a row that does not fit: other values in place of those that were made of it, or that it is left out. That counts for as
 * long as the row says the same (`told`); once it says something else at the source, it is taken as it is.
 */
import type { Mapped } from './mapped.ts'

/** null: the field is emptied. */
export type HandValues = Record<string, string | null>

export interface ByHand {
  key: string[]
  told: string
  /** null: it is left out. */
  values: HandValues | null
  note: string | null
}

/** What is being said of rows, whatever they tell now. */
export type Saying = Pick<ByHand, 'values' | 'note'> & { keys: readonly string[][] }

/** What holds for rows as they come by. */
export class Hands {
  /** What was said just now, of the rows that have come by. */
  readonly said: ByHand[] = []
  private readonly kept: Map<string, ByHand>
  private readonly saying: Map<string, Pick<ByHand, 'values' | 'note'>>
  private readonly holding = new Set<string>()

  constructor(kept: readonly ByHand[], saying: Saying | undefined) {
    this.kept = new Map(kept.map(one => [JSON.stringify(one.key), one]))
    this.saying = new Map(saying?.keys.map(key => [JSON.stringify(key), saying]))
  }

  /** The row as it is to be sent. `toldOf`: what a row tells. `mapWith`: the row with these values in place of its own. */
  corrected(mapped: Mapped, toldOf: () => string, mapWith: (values: HandValues) => Mapped): Mapped {
    if (mapped.key === null || this.kept.size + this.saying.size === 0) return mapped
    const key = JSON.stringify(mapped.key)
    const saying = this.saying.get(key)
    const before = this.kept.get(key)
    if (!saying && !before) return mapped
    const told = toldOf()
    if (saying) this.said.push({ key: mapped.key, told, values: saying.values, note: saying.note })
    else if (before!.told !== told) return mapped
    this.holding.add(key)
    const { values } = saying ?? before!
    return values ? mapWith(values) : mapped
  }

  /** Of rows that tell something else by now, or are not there any more, once all have come by. */
  get over(): string[][] {
    return [...this.kept].flatMap(([key, { key: parts }]) => (this.holding.has(key) ? [] : [parts]))
  }
}
