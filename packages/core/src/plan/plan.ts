/** From a definition and two catalogues to everything a start would do. A plain value: tested, shown, then carried out. */
import { missingOf } from '../definition/bundle.ts'
import { chosenTables, decidedBy } from '../definition/choose.ts'
import { isCopied, planChange, type PlanChange } from './change.ts'
import { ColumnRules, noteChangedTypes, type ChangedType } from './columns.ts'
import { Namer } from '../naming/namer.ts'
import { datasetId, printName, type Dataset } from '../records/dataset.ts'
import type { OriginInput, PlanInput } from './input.ts'
import { planArchive } from './archive.ts'
import { planFiles } from './change-files.ts'
import { planHistory } from './history.ts'
import { noteRules, refuseSchemas } from './names.ts'
import type { Lane } from './lane.ts'
import { LaneRuling } from './lane-rules.ts'
import { joinOrigins, noteOrigins, refuseTags, tablesOfAll } from './origins.ts'
import { byHarm, grouped, hinders, someOf, type PlanNote } from './note.ts'
import { planSteps, schemaSteps, type PrepareStep } from './steps.ts'
import { Scopes } from './scopes.ts'
import { planStatus } from './status.ts'
import { planThere } from './there.ts'
import { planLane, refuseTakenTables, type LaneRules } from './tables.ts'

export interface Plan {
  lanes: Lane[]
  steps: PrepareStep[]
  notes: PlanNote[]
  /** What is copied. */
  rows: number
  bytes: number
  /** Where the pipeline runs. */
  change?: PlanChange
}

/** Computes the plan. Never throws: what cannot be done is a refusal in `notes`, in order of harm. */
export function makePlan(input: PlanInput): Plan {
  const notes: PlanNote[] = []
  const namer = new Namer(input.names, input.profile.naming, input.targetSchema)
  const { origins } = input
  refuseTags(
    origins.map(({ tag }) => tag),
    notes,
  )
  const source = tablesOfAll(origins.map(origin => origin.source))
  const datasets = chosenDatasets(input, source, notes)
  refuseSchemas(datasets, namer, input.profile, notes)
  const ruling = new LaneRuling(input)
  const rules = {
    namer,
    rules: new ColumnRules(input.columns ?? []),
    scopes: new Scopes(input.scopes ?? []),
    ruling,
  }
  const planned = origins.map(origin => planOrigin(origin, datasets, rules, input))
  noteOrigins(planned, notes)
  const all = planned.flatMap(({ lanes }) => lanes)
  const there = planThere(
    origins.length > 1 ? joinOrigins(all, input, namer, notes) : all,
    input,
    ruling,
    notes,
  )
  const filed = planFiles(there.lanes, input, notes)
  const landing = input.does === 'archive' ? planArchive(filed, input, notes) : filed
  const { lanes, steps: historySteps } = planHistory(landing, ruling, input, notes)
  noteRules(input, namer, datasets, notes)
  if (datasets.length > 0) noteIdle(input, rules, notes)
  if (input.does === 'follow' && lanes.length > 0) {
    notes.push({
      level: 'warning',
      message: `Rows that are there now are not copied: the target gets those that change from ${input.followFrom ?? 'the start'} on.`,
      remedy: 'A recopy of a lane brings all of its rows.',
      section: 'start',
    })
  }
  noteDeletes(lanes, notes)
  // Lanes of several origins share their tables; one of each speaks for all.
  const sharing = origins.length > 1 ? grouped(lanes, ({ source }) => datasetId(source)) : undefined
  const tables = sharing?.map(([first]) => first!) ?? lanes
  refuseTakenTables(tables, input, notes)
  const changed = input.running && planChange(input.running, lanes, there.steps, input, notes)
  const steps = [
    ...(changed
      ? [...schemaSteps(tables, input), ...changed.steps]
      : planSteps(tables, input, there.steps, notes)),
    ...historySteps,
    ...planStatus(lanes, input, notes),
  ]
  notes.sort(byHarm)
  const stays = changed && isSaidOfStaying(lanes, changed.change)
  const copies = input.does !== 'follow' && input.does !== 'structure'
  const copied = copies
    ? lanes.filter((lane, i) =>
        changed ? isCopied(changed.change.lanes[i]!, lane) : lane.there !== 'are the copy',
      )
    : []
  return {
    lanes,
    steps,
    notes: stays ? notes.filter(note => !stays(note)) : notes,
    rows: copied.reduce((sum, lane) => sum + lane.rows, 0),
    bytes: copied.reduce((sum, lane) => sum + lane.bytes, 0),
    ...(changed ? { change: changed.change } : {}),
  }
}

/** What there is to know of lanes that go on as they are was said when they were started. */
function isSaidOfStaying(lanes: readonly Lane[], change: PlanChange): (note: PlanNote) => boolean {
  const fates = grouped([...lanes.keys()], i => datasetId(lanes[i]!.source))
  const staying = new Set(
    fates
      .filter(group => group.every(i => change.lanes[i]!.fate === 'stays'))
      .map(([first]) => datasetId(lanes[first!]!.source)),
  )
  return ({ level, tables }) =>
    level === 'warning' && tables !== undefined && tables.every(table => staying.has(datasetId(table)))
}

/** The lanes of one origin, by its own structures. */
function planOrigin(
  origin: OriginInput,
  chosen: readonly Dataset[],
  rules: LaneRules,
  input: PlanInput,
): { tag: string; lanes: Lane[]; notes: PlanNote[] } {
  const [notes, changed]: [PlanNote[], ChangedType[]] = [[], []]
  const own = new Map(origin.source.map(dataset => [datasetId(dataset), dataset]))
  const lanes = chosen.flatMap(({ namespace, name }) => {
    const dataset = own.get(datasetId({ namespace, name }))
    return (dataset && planLane(dataset, rules, input, origin, notes, changed)) ?? []
  })
  noteChangedTypes(changed, notes)
  return { tag: origin.tag, lanes, notes }
}

/** `source`: the tables of all origins. */
function chosenDatasets(input: PlanInput, source: readonly Dataset[], notes: PlanNote[]): Dataset[] {
  const byId = new Map(source.map(dataset => [datasetId(dataset), dataset]))
  const chosen: Dataset[] = []
  for (const name of chosenTables(input, source)) {
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
  notePatterns(input, source, notes)
  noteBundles(input, source, notes)
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

function notePatterns(
  { patterns = [], ...choice }: PlanInput,
  source: readonly Dataset[],
  notes: PlanNote[],
): void {
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

/** What makes a bundle one object must be there. */
function noteBundles({ bundles = [] }: PlanInput, source: readonly Dataset[], notes: PlanNote[]): void {
  for (const bundle of bundles) {
    const missing = missingOf(bundle, source)
    if (missing.length === 0) continue
    notes.push({
      level: 'refused',
      message: `The bundle ${bundle.name} is joined by ${someOf(missing)}, which ${missing.length === 1 ? 'is' : 'are'} not there.`,
      remedy: 'Correct what it is joined by, or take the bundle out and tick its tables.',
      section: 'tables',
    })
  }
}

/** Column rules and scopes that no chosen table has anything for. */
function noteIdle(
  { columns = [], scopes = [], lanes = [] }: PlanInput,
  { rules, scopes: planned, ruling }: LaneRules,
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
  lanes.forEach(({ like }, index) => {
    if (ruling.working.has(index)) return
    const message = `Lane rule ${index + 1} is of no table: none that is chosen is like ${like}.`
    notes.push({ level: 'warning', message, remedy, section: 'rows' })
  })
}

/** Where it is not so in all lanes, it is said of which. */
function noteDeletes(lanes: readonly Lane[], notes: PlanNote[]): void {
  for (const group of grouped(
    lanes.filter(({ deletes }) => deletes !== undefined),
    ({ deletes }) => deletes!,
  )) {
    const tables = [...new Set(group.map(({ source }) => printName(source)))]
    const how = group[0]!.deletes === 'keep' ? 'as they were last' : 'marked'
    notes.push({
      level: 'warning',
      message: `Rows that the source deletes${group.length < lanes.length ? ` from ${someOf(tables)}` : ''} stay at the target, ${how}.`,
      remedy: 'A recopy of a lane empties its table, and these rows go with it.',
      section: 'rows',
    })
  }
}
