/** From a definition and two catalogues to everything a start would do. A plain value: tested, shown, then carried out. */
import { fitName } from '../naming/profile.ts'
import { datasetId, printName } from '../records/dataset.ts'
import type { PlanInput } from './input.ts'
import type { Lane } from './lane.ts'
import { byHarm, type PlanNote } from './note.ts'
import { planSteps, type PrepareStep } from './steps.ts'
import { planLane, refuseTakenTables } from './tables.ts'

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
  const schema = planSchema(input, notes)
  const lanes = planLanes(input, schema, notes)
  refuseTakenTables(lanes, input, notes)
  const steps = planSteps(lanes, schema, input, notes)
  notes.sort(byHarm)
  return {
    lanes,
    steps,
    notes,
    rows: lanes.reduce((sum, lane) => sum + lane.rows, 0),
    bytes: lanes.reduce((sum, lane) => sum + lane.bytes, 0),
  }
}

function planLanes(input: PlanInput, schema: string, notes: PlanNote[]): Lane[] {
  const byId = new Map(input.source.map(dataset => [datasetId(dataset), dataset]))
  const lanes: Lane[] = []
  for (const name of input.tables) {
    const dataset = byId.get(datasetId(name))
    const lane = dataset && planLane(dataset, schema, input, notes)
    if (lane) lanes.push(lane)
    if (dataset) continue
    notes.push({
      level: 'refused',
      message: `${printName(name)} is not there any more.`,
      remedy: 'Leave it out, or create it at the source and look again.',
      table: name,
      section: 'tables',
    })
  }
  if (input.tables.length === 0) {
    notes.push({
      level: 'undecided',
      message: 'No table is chosen.',
      remedy: 'Tick at least one.',
      section: 'tables',
    })
  }
  return lanes
}

/** The target schema's name as the target takes it. */
function planSchema({ targetSchema, profile }: PlanInput, notes: PlanNote[]): string {
  const fitted = fitName(targetSchema, profile.naming)
  if ('refused' in fitted) {
    const none = targetSchema === ''
    notes.push({
      level: none ? 'undecided' : 'refused',
      message: none
        ? 'No target schema is named.'
        : `The target will not take the schema name ${targetSchema}: ${fitted.refused}.`,
      remedy: 'Name another schema.',
      section: 'to',
    })
  }
  return fitted.name
}
