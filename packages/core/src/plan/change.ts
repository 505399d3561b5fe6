/** How the tables and lanes of a pipeline that runs become what another plan says, with as little done as can be. */
import { canonicalJson } from '../definition/canonical-json.ts'
import { datasetId, printName, type Dataset, type DatasetName } from '../records/dataset.ts'
import { alterationOf, isNothing, type Alteration } from './alteration.ts'
import type { PlanInput } from './input.ts'
import { laneId, type Lane } from './lane.ts'
import { grouped, type PlanNote } from './note.ts'
import type { PrepareStep } from './steps.ts'
import { tableKey } from './tables.ts'

/**
 * What becomes of a lane. `goes on`: by the new plan, with nothing to do at its table. `altered`: its table is, in place.
 * `copied`: it is a new one. `copied again`: what is there of it goes, and is copied beside the others.
 */
export type LaneFate = 'stays' | 'goes on' | 'altered' | 'copied again' | 'copied'

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

export function isCopied({ fate }: LaneChange): boolean {
  return fate === 'copied' || fate === 'copied again'
}

/** What is done at the target for it, and what is to be known before. */
export function planChange(
  running: readonly Lane[],
  lanes: readonly Lane[],
  input: PlanInput,
  notes: PlanNote[],
): { change: PlanChange; steps: PrepareStep[] } {
  const places = new Map(running.map((lane, place) => [laneId(lane), place]))
  const targets = new Map(input.target.map(there => [tableKey(input.profile, there), there]))
  const fates = new Map<Lane, LaneChange>()
  const steps: PrepareStep[] = []
  for (const group of grouped(lanes, ({ source }) => datasetId(source))) {
    const pairs = group.map(lane => ({ lane, was: places.get(laneId(lane)) ?? null }))
    const alteration = together(pairs, running, input, targets)
    const step = tableStep(group[0]!, alteration, targets, input)
    if (step) steps.push(step)
    for (const { lane, was } of pairs) {
      const fate = was === null ? 'copied' : fateOf(running[was]!, lane, alteration)
      fates.set(lane, { was, fate })
    }
    noteTable(pairs, fates, alteration, running, targets, input, notes)
  }
  const change = lanes.map(lane => fates.get(lane)!)
  const kept = new Set(change.map(({ was }) => was))
  const takenOut = [...running.keys()].filter(place => !kept.has(place))
  noteTakenOut(
    takenOut.map(place => running[place]!),
    lanes,
    notes,
  )
  return { change: { lanes: change, takenOut }, steps }
}

type Pair = { lane: Lane; was: number | null }

/** What is altered at the table that these lanes share; undefined: it is made anew, or for the first time. */
function together(
  pairs: readonly Pair[],
  running: readonly Lane[],
  { profile }: PlanInput,
  targets: ReadonlyMap<string, Dataset>,
): Alteration | undefined {
  const isFree = (table: DatasetName) => !targets.has(tableKey(profile, table))
  const alterations = pairs.flatMap(({ lane, was }) =>
    was === null ? [] : [alterationOf(running[was]!, lane, profile.nameKey, isFree)],
  )
  const [first] = alterations
  const one = JSON.stringify(first)
  return alterations.every(other => JSON.stringify(other) === one) ? first : undefined
}

function fateOf(was: Lane, lane: Lane, alteration: Alteration | undefined): LaneFate {
  const sameRows =
    canonicalJson([was.scope, was.identity]) === canonicalJson([lane.scope, lane.identity]) &&
    // Rows that stayed before, and those that are marked, are not told from others by who removes them from now on.
    (was.deletes === lane.deletes || was.deletes === undefined)
  if (!alteration || !sameRows) return 'copied again'
  if (!isNothing(alteration)) return 'altered'
  return canonicalJson(outline(was)) === canonicalJson(outline(lane)) ? 'stays' : 'goes on'
}

function outline({ rows: _rows, rowsExact: _exact, bytes: _bytes, ...lane }: Lane): object {
  return lane
}

function tableStep(
  lane: Lane,
  alteration: Alteration | undefined,
  targets: ReadonlyMap<string, Dataset>,
  { profile }: PlanInput,
): PrepareStep | undefined {
  const { target: table, key } = lane
  if (alteration) return isNothing(alteration) ? undefined : { step: 'alter table', ...alteration }
  const columns = lane.writes.map(({ name, type, nativeType, nullable }) => ({
    name,
    type,
    nativeType,
    nullable,
  }))
  const step = targets.has(tableKey(profile, table)) ? 'replace table' : 'create table'
  return { step, table, columns, key }
}

function noteTable(
  pairs: readonly Pair[],
  fates: ReadonlyMap<Lane, LaneChange>,
  alteration: Alteration | undefined,
  running: readonly Lane[],
  targets: ReadonlyMap<string, Dataset>,
  { profile }: PlanInput,
  notes: PlanNote[],
): void {
  const again = pairs.filter(({ lane }) => fates.get(lane)!.fate === 'copied again')
  const { lane } = pairs[0]!
  const tables = [lane.source]
  const [first] = again
  if (first) {
    const before = running[first.was!]!
    const rows = targets.get(tableKey(profile, before.target))?.rows ?? 0
    const moved = tableKey(profile, before.target) !== tableKey(profile, lane.target)
    const tags = again.flatMap(({ lane: { origin } }) => origin ?? [])
    const whose =
      tags.length === 0 || tags.length === pairs.length ? '' : `The part of ${tags.join(' and ')} in `
    notes.push({
      level: moved ? 'warning' : 'loss',
      message: moved
        ? `${printName(before.target)} and its ${rows} rows stay as they are: ${printName(lane.target)} takes their place.`
        : `${whose}${printName(lane.target)}, with ${rows} rows, is emptied and copied again, beside the others.`,
      remedy: moved
        ? 'Drop it at the target when nobody reads it.'
        : 'Whoever reads it finds fewer rows until the copy is complete.',
      tables,
      section: 'to',
    })
  }
  const { drops = [], renames = [] } = alteration ?? {}
  if (drops.length > 0) {
    notes.push({
      level: 'loss',
      message: `${printName(lane.target)} loses ${drops.join(', ')}, with what is in ${drops.length === 1 ? 'it' : 'them'}.`,
      remedy: 'To have it back later, the table must be copied again.',
      tables,
      section: 'columns',
    })
  }
  if (renames.length > 0 || alteration?.to) {
    const names = renames.map(({ from, to }) => `${from} becomes ${to}`)
    if (alteration?.to) names.unshift(`${printName(alteration.table)} becomes ${printName(alteration.to)}`)
    notes.push({
      level: 'warning',
      message: `${alteration?.to ? '' : `In ${printName(lane.target)} `}${names.join(', ')}.`,
      remedy: 'Queries by the old name fail from then on.',
      tables,
      section: 'names',
    })
  }
}

function noteTakenOut(gone: readonly Lane[], lanes: readonly Lane[], notes: PlanNote[]): void {
  for (const [first, ...others] of grouped(gone, ({ target }) => datasetId(target))) {
    const { source, target, origin } = first!
    const shared = lanes.some(lane => datasetId(lane.target) === datasetId(target))
    const tags = [first!, ...others].map(({ origin }) => origin)
    notes.push({
      level: 'warning',
      message: `${printName(source)}${shared && origin !== undefined ? ` of ${tags.join(', ')}` : ''} is not followed any more; ${printName(target)} stays as it is then.`,
      remedy: shared
        ? 'Its rows stay beside those of the others.'
        : 'Drop it at the target when nobody reads it.',
      tables: [source],
      section: 'tables',
    })
  }
}
