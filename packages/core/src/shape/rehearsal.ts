/** All rows of a lane through its whole shaping, with nothing written: how many take part, and what would not go in. */
import { NoValue } from '../expression/values.ts'
import type { Lane } from '../plan/lane.ts'
import type { LogicalType } from '../records/types.ts'
import type { Key, Row, Value } from '../records/value.ts'
import { predicateAsOf } from '../scope/predicate.ts'
import { toldKey } from './misfit.ts'
import { madeColumns, type Coming, type Shaping } from './written.ts'

/** Why a target column does not take a value; undefined: it does. */
export type Holds = (text: string) => string | undefined

/** What a target's type does not hold, of a type that says more; undefined: it holds all. */
export type HoldsOf = (type: LogicalType, nativeType: string) => Holds | undefined

export interface MisfitsOfColumn {
  /** At the target; `its scope` where it cannot be said whether the rows take part. */
  column: string
  rows: number
  /** The first few of them. */
  examples: { key: Key; reason: string }[]
}

export interface LaneRehearsed {
  /** Rows that were read. */
  rows: number
  inScope: number
  /** Rows that would stop the pipeline. */
  held: number
  misfits: MisfitsOfColumn[]
  /** Values of which only a part would land, by target column. */
  cut: { column: string; values: number }[]
}

const EXAMPLES = 5

export class LaneRehearsal {
  private readonly lane: Lane
  private readonly made: ReturnType<typeof madeColumns>
  private readonly holds: (Holds | undefined)[]
  private readonly inScope: ((row: Row) => boolean) | undefined
  private readonly misfits = new Map<string, MisfitsOfColumn>()
  private readonly cut = new Map<string, number>()
  private readonly coming: Coming
  private counts = { rows: 0, inScope: 0, held: 0 }

  /** `landedAt`: now; ISO 8601. */
  constructor(lane: Lane, shaping: Shaping, holdsOf: HoldsOf | undefined, landedAt: string) {
    this.lane = lane
    this.made = madeColumns(lane, shaping)
    this.holds = lane.writes.map(({ type, nativeType }) => holdsOf?.(type, nativeType))
    this.coming = { op: 'copy', committedAt: null, position: null, landedAt }
    const predicate = lane.scope && predicateAsOf(lane.scope, lane.reads)(landedAt)
    this.inScope = predicate ? row => predicate.test(row) === true : undefined
  }

  /** `row`: the columns that the lane reads, in canonical text. */
  add(row: Row): void {
    this.counts.rows++
    try {
      if (this.inScope && !this.inScope(row)) return
    } catch (thrown) {
      this.counts.held++
      return this.misfit('its scope', row, reasonOf(thrown))
    }
    this.counts.inScope++
    let fits = true
    for (const [i, { name, make }] of this.made.entries()) {
      const reason = this.whyNot(i, () => make(row, this.coming))
      if (reason === undefined) continue
      fits = false
      this.misfit(name, row, reason)
    }
    if (!fits) this.counts.held++
  }

  get result(): LaneRehearsed {
    const cut = [...this.cut].map(([column, values]) => ({ column, values }))
    return { ...this.counts, misfits: [...this.misfits.values()], cut }
  }

  private whyNot(i: number, make: () => Value): string | undefined {
    try {
      const value = make()
      const { nullable, value: written, name } = this.lane.writes[i]!
      if (value === null || value === undefined)
        return nullable ? undefined : 'it would be null, which the column cannot be'
      if (written.from === 'was cut' && value === 't') this.cut.set(name, (this.cut.get(name) ?? 0) + 1)
      return this.holds[i]?.(value)
    } catch (thrown) {
      return reasonOf(thrown)
    }
  }

  private misfit(column: string, row: Row, reason: string): void {
    const { identity, reads } = this.lane
    let found = this.misfits.get(column)
    if (!found) this.misfits.set(column, (found = { column, rows: 0, examples: [] }))
    found.rows++
    if (found.examples.length === EXAMPLES) return
    const key = identity.map(name => row[reads.findIndex(column => column.name === name)])
    found.examples.push({ key: toldKey(this.lane, key), reason })
  }
}

/** Anything else is a fault of ours. */
function reasonOf(thrown: unknown): string {
  if (thrown instanceof NoValue) return thrown.message
  throw thrown
}
