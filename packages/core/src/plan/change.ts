/** How the tables and lanes of a pipeline that runs become what another plan says, with as little done as can be. */
import { canonicalJson } from '../definition/canonical-json.ts'
import { datasetId, printName, type Dataset, type DatasetName } from '../records/dataset.ts'
import { alterationOf, isNothing, type Alteration, type LaneAlteration } from './alteration.ts'
import type { PlanInput } from './input.ts'
import { laneId, type Lane } from './lane.ts'
import { grouped, type PlanNote } from './note.ts'
import { tableStep, type PrepareStep, type StepsThere } from './steps.ts'
import { tableKey } from './tables.ts'

/**
 * What becomes of a lane. `goes on`: by the new plan, with nothing to do at its table. `altered`: its table is, in place. `filled`: so it is, and its
 * rows are written over as the source has them, beside the others. `copied`: it is a new one. `copied again`: what is there of it goes, and is copied beside the others.
 */
export type LaneFate = 'stays' | 'goes on' | 'altered' | 'filled' | 'copied again' | 'copied'

export interface LaneChange {
  /** Which one it is of the lanes so far; null: of none. */
  was: number | null
  fate: LaneFate
}

/** From the lanes that run to those of a plan. */
export interface PlanChange {
  /** For each lane of the plan. */
  lanes: LaneChange[]
  /** Lanes so far that are not among them. */
  takenOut: number[]
}

export function isCopied({ fate }: LaneChange, { there }: Lane): boolean {
  return fate === 'copied again' || fate === 'filled' || (fate === 'copied' && there !== 'are the copy')
}

const SAID: Record<LaneFate, string> = {
  'copied again': 'copied again',
  copied: 'added',
  filled: 'filled in place',
  altered: 'altered in place',
  'goes on': 'shaped otherwise from here on',
  stays: 'as before',
}

/** How many lanes there are of each fate: “2 lanes are copied again”. */
export function fatesSaid({ lanes, takenOut }: PlanChange): string[] {
  const said = (count: number, what: string) => `${count} ${count === 1 ? 'lane is' : 'lanes are'} ${what}`
  const fates = Object.entries(SAID).flatMap(([fate, what]) => {
    const count = lanes.filter(lane => lane.fate === fate).length
    return count > 0 ? [said(count, what)] : []
  })
  return takenOut.length > 0 ? [...fates, said(takenOut.length, 'taken out')] : fates
}

/** What is done at the target for it, and what is to be known before. */
export function planChange(
  running: readonly Lane[],
  lanes: readonly Lane[],
  there: StepsThere,
  input: PlanInput,
  notes: PlanNote[],
): { change: PlanChange; steps: PrepareStep[] } {
  return new Changing(running, lanes, input, notes).plan(there)
}

/** A lane, and its place among those that run. */
type Pair = { lane: Lane; was: number | null }

class Changing {
  private readonly running: readonly Lane[]
  private readonly lanes: readonly Lane[]
  private readonly input: PlanInput
  private readonly notes: PlanNote[]
  /** What there is at the target. */
  private readonly there: ReadonlyMap<string, Dataset>
  /** The tables that lanes of the plan go into. */
  private readonly wanted: ReadonlySet<string>

  constructor(running: readonly Lane[], lanes: readonly Lane[], input: PlanInput, notes: PlanNote[]) {
    this.running = running
    this.lanes = lanes
    this.input = input
    this.notes = notes
    this.there = new Map(input.target.map(one => [this.keyOf(one), one]))
    this.wanted = new Set(lanes.map(({ target }) => this.keyOf(target)))
  }

  /** `others`: what is done with tables that others have made. */
  plan(others: StepsThere): { change: PlanChange; steps: PrepareStep[] } {
    const places = new Map(this.running.map((lane, place) => [laneId(lane), place]))
    const fates = new Map<Lane, LaneChange>()
    const steps: PrepareStep[] = []
    for (const group of grouped(this.lanes, ({ source }) => datasetId(source))) {
      const pairs = group.map(lane => ({ lane, was: places.get(laneId(lane)) ?? null }))
      const alteration = this.together(pairs)
      const said = others.get(this.keyOf(group[0]!.target))
      const step = said ? undefined : this.tableStep(group[0]!, alteration)
      steps.push(...(said ?? []), ...(step ? [step] : []))
      if (step?.step === 'replace table') this.refuseOthersRows(group)
      const again = pairs.filter(({ lane, was }) => {
        const fate = was === null ? 'copied' : fateOf(this.running[was]!, lane, alteration)
        fates.set(lane, { was, fate })
        return fate === 'copied again'
      })
      if (!said) this.noteRows(pairs, again, alteration)
      if (alteration) this.noteAlteration(group[0]!, alteration, again.length > 0)
    }
    const kept = new Set([...fates.values()].map(({ was }) => was))
    const takenOut = [...this.running.keys()].filter(place => !kept.has(place))
    this.noteTakenOut(takenOut.map(place => this.running[place]!))
    return { change: { lanes: this.lanes.map(lane => fates.get(lane)!), takenOut }, steps }
  }

  /** What is altered at the table that these lanes share; undefined: it is made anew, or for the first time. */
  private together(pairs: readonly Pair[]): LaneAlteration | undefined {
    const { nameKey } = this.input.profile
    // Files stay where they are.
    const isFree = (table: DatasetName) =>
      this.input.profile.lake === undefined && !this.there.has(this.keyOf(table))
    if (pairs.some(({ lane, was }) => was !== null && this.running[was]!.files?.as !== lane.files?.as))
      return undefined
    const alterations = pairs.flatMap(({ lane, was }) =>
      was === null ? [] : [alterationOf(this.running[was]!, lane, nameKey, isFree)],
    )
    const [first] = alterations
    // Nothing is read there but changes.
    const { does } = this.input
    if ((does === 'follow' || does === 'structure') && first && first.fills.length > 0) return undefined
    // Whoever takes the name that is left would have to wait for the table that leaves it.
    if (first?.to && this.wanted.has(this.keyOf(first.table))) return undefined
    const one = canonicalJson(first)
    return alterations.every(other => canonicalJson(other) === one) ? first : undefined
  }

  private tableStep(lane: Lane, alteration: LaneAlteration | undefined): PrepareStep | undefined {
    if (alteration)
      return isNothing(alteration) ? undefined : { step: 'alter table', ...tableAlterationOf(alteration) }
    return tableStep(lane, this.there.has(this.keyOf(lane.target)) ? 'replace table' : 'create table')
  }

  private refuseOthersRows(group: readonly Lane[]): void {
    const { source, target, there } = group[0]!
    if (there !== 'add') return
    this.notes.push({
      level: 'refused',
      message: `${printName(target)} would have to be made anew, and has rows that are not of this pipeline.`,
      remedy: 'Alter it at the target, or stop the pipeline and say what becomes of them.',
      tables: [source],
      section: 'to',
    })
  }

  /** What rows go. */
  private noteRows(
    pairs: readonly Pair[],
    again: readonly Pair[],
    alteration: LaneAlteration | undefined,
  ): void {
    const { source, target } = pairs[0]!.lane
    const note = (level: PlanNote['level'], message: string, remedy: string) =>
      this.notes.push({ level, message, remedy, tables: [source], section: 'to' })
    const [first] = again
    const before = first && this.running[first.was!]!.target
    const moved = before && this.keyOf(before) !== this.keyOf(target)
    const there = this.there.get(this.keyOf(target))
    if (first && !moved && first.lane.there === 'add') {
      note(
        'warning',
        `${printName(source)} is copied again over what is in ${printName(target)}.`,
        'Rows that the source has no more stay there.',
      )
    } else if (first && !moved) {
      const tags = again.flatMap(({ lane: { origin } }) => origin ?? [])
      const part =
        tags.length === 0 || tags.length === pairs.length ? '' : `The part of ${tags.join(', ')} in `
      note(
        'loss',
        `${part}${printName(target)}, with ${(there?.rows ?? 0).toLocaleString('en')} rows, is emptied and copied again, beside the others.`,
        'Whoever reads it finds fewer rows until the copy is complete.',
      )
    } else if (there && !alteration) {
      note(
        'loss',
        `${printName(target)} and its ${there.rows.toLocaleString('en')} rows are replaced.`,
        'This pipeline made it; it is made and copied anew.',
      )
    }
    if (moved && !this.wanted.has(this.keyOf(before))) {
      note(
        'warning',
        `${printName(before)} stays as it is: ${printName(target)} takes its place.`,
        'Drop it at the target when nobody reads it.',
      )
    }
  }

  private noteAlteration(
    { source, target }: Lane,
    { table, to, drops, renames, fills }: LaneAlteration,
    isCopied: boolean,
  ): void {
    const tables = [source]
    if (fills.length > 0 && !isCopied)
      this.notes.push({
        level: 'warning',
        message: `In ${printName(target)}, ${fills.join(', ')} ${fills.length === 1 ? 'is' : 'are'} filled in the rows that are there, which are written over as the source has them.`,
        remedy:
          'Until that is done some rows have the value of before. Rows that the source has no more keep what they have.',
        tables,
        section: 'columns',
      })
    if (drops.length > 0) {
      this.notes.push({
        level: 'loss',
        message: `${printName(table)} loses ${drops.join(', ')}, with what is in ${drops.length === 1 ? 'it' : 'them'}.`,
        remedy: 'To have it back later, the table must be copied again.',
        tables,
        section: 'columns',
      })
    }
    const names = renames.map(({ from, to }) => `${from} becomes ${to}`)
    if (to) names.unshift(`${printName(table)} becomes ${printName(to)}`)
    if (names.length === 0) return
    this.notes.push({
      level: 'warning',
      message: `${to ? '' : `In ${printName(target)}, `}${names.join(', ')}.`,
      remedy: 'Queries by the old name fail from then on.',
      tables,
      section: 'names',
    })
  }

  private noteTakenOut(gone: readonly Lane[]): void {
    for (const group of grouped(gone, ({ source }) => datasetId(source))) {
      const { source, target } = group[0]!
      const others = this.lanes.some(lane => datasetId(lane.source) === datasetId(source))
      const whose = others ? ` of ${group.map(({ origin }) => origin).join(', ')}` : ''
      const stays = this.wanted.has(this.keyOf(target)) ? '' : `; ${printName(target)} stays as it is then`
      this.notes.push({
        level: 'warning',
        message: `${printName(source)}${whose} is not followed any more${stays}.`,
        remedy: others
          ? 'Its rows stay beside those of the others.'
          : 'Drop its table at the target when nobody reads it.',
        tables: [source],
        section: 'tables',
      })
    }
  }

  private keyOf(table: DatasetName): string {
    return tableKey(this.input.profile, table)
  }
}

function fateOf(was: Lane, lane: Lane, alteration: LaneAlteration | undefined): LaneFate {
  const sameRows =
    canonicalJson([was.scope, was.identity]) === canonicalJson([lane.scope, lane.identity]) &&
    // Rows that stayed before, and those that are marked, are not told from others by who removes them from now on.
    (was.deletes === lane.deletes || was.deletes === undefined)
  if (!alteration || !sameRows) return 'copied again'
  if (alteration.fills.length > 0) return 'filled'
  if (!isNothing(alteration)) return 'altered'
  return canonicalJson(outline(was)) === canonicalJson(outline(lane)) ? 'stays' : 'goes on'
}

function tableAlterationOf({ fills: _fills, ...alteration }: LaneAlteration): Alteration {
  return alteration
}

function outline({ rows: _rows, rowsExact: _exact, bytes: _bytes, ...lane }: Lane): object {
  return lane
}
