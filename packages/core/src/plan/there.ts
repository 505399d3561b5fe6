/** Tables that are at the target already and that no lane of the pipeline has made: what is done with them, as was said. */
import type { There } from '../definition/lane-rule.ts'
import { datasetId, printName, type Dataset } from '../records/dataset.ts'
import { structureAt } from './fit.ts'
import type { PlanInput } from './input.ts'
import { laneId, type Lane } from './lane.ts'
import type { LaneRuling } from './lane-rules.ts'
import { grouped, someOf, type PlanNote } from './note.ts'
import { tableStep, type PrepareStep, type StepsThere } from './steps.ts'
import { tableKey } from './tables.ts'

export interface PlannedThere {
  /** With the columns as the tables have them. */
  lanes: Lane[]
  steps: StepsThere
}

/** What is not yet said, or cannot be as it was said, is in the notes. */
export function planThere(
  lanes: readonly Lane[],
  input: PlanInput,
  ruling: LaneRuling,
  notes: PlanNote[],
): PlannedThere {
  return new Standing(input, notes).plan(lanes, ruling)
}

class Standing {
  private readonly input: PlanInput
  private readonly notes: PlanNote[]
  private readonly undecided: { lane: Lane; rows: number }[] = []
  private readonly joined: { lane: Lane; rows: number }[] = []
  private readonly assumed: { lane: Lane; rows: number }[] = []

  constructor(input: PlanInput, notes: PlanNote[]) {
    this.input = input
    this.notes = notes
  }

  plan(lanes: readonly Lane[], ruling: LaneRuling): PlannedThere {
    const { target, claims, own, profile, running = [] } = this.input
    const keyOf = (lane: Lane) => tableKey(profile, lane.target)
    const present = new Map(target.map(there => [tableKey(profile, there), there]))
    const taken = new Set(claims.map(({ table }) => tableKey(profile, table)))
    const mine = new Set(own.map(table => tableKey(profile, table)))
    const runs = new Map(running.map(lane => [laneId(lane), lane]))
    const steps = new Map<string, PrepareStep[]>()
    const planned = new Map<string, Lane>()
    for (const group of grouped(lanes, keyOf)) {
      const key = keyOf(group[0]!)
      const there = present.get(key)
      if (!there || taken.has(key)) continue
      const { there: said } = ruling.of(group[0]!.source)
      const known = group.filter(lane => runs.has(laneId(lane)))
      if (known.length > 0 && mine.has(key)) {
        for (const lane of group) planned.set(laneId(lane), asItRuns(lane, runs, there, this.input))
        continue
      }
      if (profile.lake) {
        if (!mine.has(key)) this.refuseFiles(group[0]!)
        else if (this.input.does === 'archive') {
          const made = this.table(group, there, { rows: 'add', structure: 'add what is missing' })
          steps.set(key, made.steps)
          for (const lane of made.lanes) planned.set(laneId(lane), lane)
        }
        continue
      }
      if (mine.has(key) && said.rows === undefined && said.structure === undefined) continue
      const made = this.table(group, there, said)
      steps.set(key, made.steps)
      for (const lane of made.lanes) planned.set(laneId(lane), lane)
    }
    this.noteAll()
    return { lanes: lanes.map(lane => planned.get(laneId(lane)) ?? lane), steps }
  }

  /** What others have published cannot be altered or added to. */
  private refuseFiles(lane: Lane): void {
    this.refuse(
      lane,
      `${printName(lane.target)} is there already, in files that something else has written.`,
      'Name the table otherwise, choose another target schema, or move its folder away.',
    )
  }

  /** `lanes`: those that share the table. */
  private table(
    lanes: Lane[],
    there: Dataset,
    { rows, structure = 'as it is' }: There,
  ): { lanes: Lane[]; steps: PrepareStep[] } {
    const [first] = lanes as [Lane]
    const { does, origins } = this.input
    const shown = printName(first.target)
    const keeps = rows === 'add' || rows === 'are the copy'
    if (structure === 'make anew' && keeps)
      this.refuse(
        first,
        `${shown} cannot be made anew and keep its ${said(there.rows)} rows.`,
        'Say one or the other.',
      )
    if (structure === 'make anew') {
      this.lose(
        first,
        `${shown} and its ${said(there.rows)} rows are dropped, and it is made anew.`,
        'Name the table otherwise, or choose another target schema, if somebody needs it.',
      )
      return { lanes, steps: [tableStep(first, 'replace table')] }
    }
    const { differs, missing, unwritten, adopt } = structureAt(there, first, this.input.profile, keeps)
    const adds = structure === 'add what is missing' ? missing : []
    if (missing.length > adds.length) differs.unshift(`it has no ${someOf(missing.map(({ name }) => name))}`)
    if (differs.length > 0) {
      this.refuse(
        first,
        `${shown} is there already, and is not as ${printName(first.source)} needs it: ${differs.join('; ')}.`,
        missing.length > adds.length && differs.length === 1
          ? 'Let what is missing be added, let it be made anew, or name the table otherwise.'
          : 'Alter it at the target, let it be made anew, or name the table otherwise.',
      )
    }
    if (unwritten.length > 0)
      this.note(
        'warning',
        first,
        `${someOf(unwritten)} of ${shown} ${unwritten.length === 1 ? 'is' : 'are'} not written: null in all rows that come.`,
        'Drop what nobody reads, or add a column rule for it.',
      )
    const steps: PrepareStep[] = []
    const nullable = (name: string) => adds.some(one => one.name === name)
    if (adds.length > 0) {
      const table = first.target
      steps.push({
        step: 'alter table',
        table,
        drops: [],
        renames: [],
        adds: adds.map(({ name, type, nativeType }) => ({ name, type, nativeType, nullable: true })),
      })
    }
    const planned = lanes.map(lane => {
      const adopted = {
        ...lane,
        writes: lane.writes.map(column =>
          nullable(column.name) ? { ...column, nullable: true } : adopt(column),
        ),
      }
      return keeps && does !== 'structure' ? { ...adopted, there: rows } : adopted
    })
    if (does === 'structure') return { lanes: planned, steps }
    if (rows === undefined && differs.length === 0) this.undecided.push({ lane: first, rows: there.rows })
    else if (rows === 'add') this.joined.push({ lane: first, rows: there.rows })
    else if (rows === 'are the copy') {
      this.assumed.push({ lane: first, rows: there.rows })
      if (does === 'copy')
        this.refuse(
          first,
          `Nothing of ${printName(first.source)} would be copied: what is in ${shown} is to be the copy.`,
          'Follow it, or have it emptied or added to.',
        )
    } else if (rows === 'empty') {
      const column = first.writes.find(({ value }) => value.from === 'origin')?.name
      const part =
        column !== undefined ? { part: { column, values: lanes.map(({ origin = '' }) => origin) } } : {}
      steps.push({ step: 'empty table', table: first.target, ...part })
      const whose =
        origins.length > 1 ? `What is of ${someOf(lanes.map(({ origin = '' }) => origin))} among the` : 'The'
      this.lose(
        first,
        `${whose} ${said(there.rows)} rows of ${shown} ${origins.length > 1 ? 'is' : 'are'} deleted.`,
        'Add to them instead, if somebody needs them.',
      )
    }
    return { lanes: planned, steps }
  }

  private noteAll(): void {
    const { undecided, joined, assumed, notes } = this
    const about = (some: readonly { lane: Lane; rows: number }[]) => ({
      tables: some.map(({ lane }) => lane.source),
      section: 'to' as const,
    })
    const names = (some: readonly { lane: Lane; rows: number }[]) => {
      const rows = some.reduce((sum, one) => sum + one.rows, 0)
      return {
        all: someOf(some.map(({ lane }) => printName(lane.target))),
        rows: said(rows),
        are: some.length === 1 ? 'is' : 'are',
      }
    }
    if (undecided.length > 0) {
      const { all, rows, are } = names(undecided)
      notes.push({
        level: 'undecided',
        message: `${all} ${are} at the target already, with ${rows} rows that this pipeline did not put there.`,
        remedy: 'Say what becomes of them, or choose another target schema.',
        ...about(undecided),
      })
    }
    if (joined.length > 0) {
      const { all, rows } = names(joined)
      notes.push({
        level: 'warning',
        message: `${rows} rows stay in ${all}; those whose keys come from the source are replaced.`,
        remedy:
          'A deletion at the source takes the row of its key, and emptying a table there empties it here.',
        ...about(joined),
      })
    }
    if (assumed.length > 0) {
      const { all, rows, are } = names(assumed)
      notes.push({
        level: 'warning',
        message: `The ${rows} rows of ${all} ${are === 'is' ? 'are taken for the copy' : 'are taken for the copies'} as they are.`,
        remedy: 'Nobody has compared them; what is not as at the source stays so until it changes there.',
        ...about(assumed),
      })
    }
  }

  private lose({ source }: Lane, message: string, remedy: string): void {
    this.notes.push({ level: 'loss', message, remedy, tables: [source], section: 'to', others: true })
  }

  private refuse(lane: Lane, message: string, remedy: string): void {
    this.note('refused', lane, message, remedy)
  }

  private note(level: PlanNote['level'], { source }: Lane, message: string, remedy: string): void {
    this.notes.push({ level, message, remedy, tables: [source], section: 'to' })
  }
}

/** A lane that runs goes on with the types that its table was given, where these take what it writes. */
function asItRuns(
  lane: Lane,
  running: ReadonlyMap<string, Lane>,
  there: Dataset,
  { profile }: PlanInput,
): Lane {
  const was =
    running.get(laneId(lane)) ??
    [...running.values()].find(({ target }) => datasetId(target) === datasetId(lane.target))
  if (!was) return lane
  const { fits } = structureAt(there, lane, profile, false)
  const writes = lane.writes.map(column => {
    const before = was.writes.find(({ name }) => name === column.name)
    if (!before || before.nativeType === column.nativeType || !fits(column)) return column
    return { ...column, nativeType: before.nativeType, nullable: before.nullable }
  })
  return { ...lane, writes, ...(was.there ? { there: was.there } : {}) }
}

function said(rows: number): string {
  return rows.toLocaleString('en')
}
