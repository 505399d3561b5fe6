/** From a definition and two catalogues to everything a start would do. A plain value: tested, shown, then carried out. */
import { chosenTables, decidedBy } from '../definition/choose.ts'
import { ColumnRules, noteChangedTypes, type ChangedType } from './columns.ts'
import { Namer } from '../naming/namer.ts'
import { datasetId, printName, type Dataset } from '../records/dataset.ts'
import type { PlanInput } from './input.ts'
import { noteRules, refuseSchemas } from './names.ts'
import type { Lane } from './lane.ts'
import { byHarm, hinders, type PlanNote } from './note.ts'
import { planSteps, type PrepareStep } from './steps.ts'
import { Scopes } from './scopes.ts'
import { planLane, refuseTakenTables, type LaneRules } from './tables.ts'

export interface Plan {
  lanes: Lane[]
  steps: PrepareStep[]
  notes: PlanNote[]
  rows: number
  bytes: number
}

/** Computes the plan. Never throws: what cannot be done is a refusal in `notes`, in order of harm. */
export function makePlan(input: PlanInput): Plan {
  const notes: PlanNote[] = []
  const namer = new Namer(input.names, input.profile.naming, input.targetSchema)
  const datasets = chosenDatasets(input, notes)
  refuseSchemas(datasets, namer, notes)
  const changed: ChangedType[] = []
  const rules = { namer, rules: new ColumnRules(input.columns ?? []), scopes: new Scopes(input.scopes ?? []) }
  const lanes = datasets.flatMap(dataset => planLane(dataset, rules, input, notes, changed) ?? [])
  noteChangedTypes(changed, notes)
  noteRules(input, namer, datasets, notes)
  if (datasets.length > 0) noteIdle(input, rules, notes)
  if (input.deletes !== undefined && input.deletes !== 'remove') noteDeletes(input.deletes, notes)
  refuseTakenTables(lanes, input, notes)
  const steps = planSteps(lanes, input, notes)
  notes.sort(byHarm)
  return {
    lanes,
    steps,
    notes,
    rows: lanes.reduce((sum, lane) => sum + lane.rows, 0),
    bytes: lanes.reduce((sum, lane) => sum + lane.bytes, 0),
  }
}

function chosenDatasets(input: PlanInput, notes: PlanNote[]): Dataset[] {
  const byId = new Map(input.source.map(dataset => [datasetId(dataset), dataset]))
  const chosen: Dataset[] = []
  for (const name of chosenTables(input, input.source)) {
    const dataset = byId.get(datasetId(name))
    if (dataset) chosen.push(dataset)
    else {
      notes.push({
        level: 'refused',
        message: `${printName(name)} is not there any more.`,
        remedy: 'Leave it out, or create it at the source and look again.',
        tables: [name],
        section: 'tables',
      })
    }
  }
  notePatterns(input, notes)
  if (chosen.length === 0 && !notes.some(hinders)) {
    notes.push({
      level: 'undecided',
      message: 'No table is chosen.',
      remedy: 'Tick at least one, or take some in by a pattern.',
      section: 'tables',
    })
  }
  return chosen
}

function notePatterns({ source, patterns = [], ...choice }: PlanInput, notes: PlanNote[]): void {
  if (patterns.length === 0) return
  const decided = decidedBy({ ...choice, patterns }, source)
  patterns.forEach(({ like, take }, index) => {
    if (decided[index]! > 0) return
    notes.push({
      level: 'warning',
      message: `Pattern ${index + 1} decides no table: take ${take} ${like}.`,
      remedy: 'It stays for tables that come later; correct or remove it if that is not what it is for.',
      section: 'tables',
    })
  })
}

/** Column rules and scopes that no chosen table has anything for. */
function noteIdle(
  { columns = [], scopes = [] }: PlanInput,
  { rules, scopes: planned }: LaneRules,
  notes: PlanNote[],
): void {
  const remedy = 'It stays for what comes later; correct or remove it if that is not what it is for.'
  columns.forEach(({ like }, index) => {
    if (rules.working.has(index)) return
    const message = `Column rule ${index + 1} decides nothing: no chosen column or table is like ${like}, or a later rule decides it.`
    notes.push({ level: 'warning', message, remedy, section: 'columns' })
  })
  scopes.forEach(({ like }, index) => {
    if (planned.working.has(index)) return
    const message = `Scope ${index + 1} is of no table: none that is chosen is like ${like}.`
    notes.push({ level: 'warning', message, remedy, section: 'rows' })
  })
}

function noteDeletes(deletes: NonNullable<PlanInput['deletes']>, notes: PlanNote[]): void {
  notes.push({
    level: 'warning',
    message:
      deletes === 'keep'
        ? 'Rows that the source deletes stay at the target, as they were last.'
        : 'Rows that the source deletes stay at the target, marked.',
    remedy: 'A recopy of a lane empties its table, and these rows go with it.',
    section: 'rows',
  })
}
