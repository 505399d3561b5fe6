/** What a plan says now that it did not say when it was shown: a start is exactly what was shown, or it is refused. */
import { datasetId, printName } from '../records/dataset.ts'
import { hinders, type Lane, type Plan, type PlanNote, type PrepareStep } from './plan.ts'

/** What of a plan must be as it was shown. Sizes are not: rows come and go. */
export type PlanOutline = Pick<Plan, 'steps'> & {
  lanes: Omit<Lane, 'rows' | 'rowsExact' | 'bytes'>[]
  /** Those that speak of harm. */
  notes: Omit<PlanNote, 'message' | 'remedy'>[]
}

export function outlineOf({ lanes, steps, notes }: Plan): PlanOutline {
  return {
    lanes: lanes.map(({ source, target, columns, key }) => ({ source, target, columns, key })),
    steps,
    notes: notes
      .filter(note => hinders(note) || note.level === 'loss')
      .map(({ level, section, table }) => ({ level, section, ...(table ? { table } : {}) })),
  }
}

/** In sentences; none when the plans say the same. */
export function planDifference(shown: PlanOutline, now: PlanOutline): string[] {
  const differences: string[] = []
  const before = new Map(shown.lanes.map(lane => [datasetId(lane.source), lane]))
  for (const lane of now.lanes) {
    const name = printName(lane.source)
    const was = before.get(datasetId(lane.source))
    before.delete(datasetId(lane.source))
    if (!was) differences.push(`${name} has come to it.`)
    else differences.push(...laneDifference(name, was, lane))
  }
  for (const lane of before.values()) differences.push(`${printName(lane.source)} is no longer in it.`)
  const stepsBefore = new Set(shown.steps.map(stepName))
  for (const step of now.steps)
    if (!stepsBefore.has(stepName(step))) differences.push(`It would ${stepName(step)}.`)
  const notesBefore = new Set(shown.notes.map(note => JSON.stringify(note)))
  for (const note of now.notes) {
    if (notesBefore.has(JSON.stringify(note))) continue
    const about = note.table ? ` about ${printName(note.table)}` : ''
    differences.push(`Something is ${note.level === 'loss' ? 'lost' : note.level}${about} that was not.`)
  }
  if (differences.length === 0 && JSON.stringify(shown) !== JSON.stringify(now))
    differences.push('Its order, or a detail of a column, has changed.')
  return differences
}

function laneDifference(
  name: string,
  was: PlanOutline['lanes'][number],
  lane: PlanOutline['lanes'][number],
): string[] {
  const differences: string[] = []
  if (datasetId(was.target) !== datasetId(lane.target))
    differences.push(`${name} goes into ${printName(lane.target)} instead of ${printName(was.target)}.`)
  if (JSON.stringify(was.key) !== JSON.stringify(lane.key))
    differences.push(`The key of ${name} is ${lane.key.join(', ')} instead of ${was.key.join(', ')}.`)
  const before = new Map(was.columns.map(column => [column.source, column]))
  for (const column of lane.columns) {
    const known = before.get(column.source)
    before.delete(column.source)
    if (!known) differences.push(`${name} has a new column ${column.source}.`)
    else if (known.nativeType !== column.nativeType)
      differences.push(`${name}.${column.source} is ${column.nativeType} instead of ${known.nativeType}.`)
    else if (known.target !== column.target || known.targetType !== column.targetType)
      differences.push(`${name}.${column.source} becomes ${column.target} ${column.targetType}.`)
    else if (known.nullable !== column.nullable)
      differences.push(`${name}.${column.source} may ${column.nullable ? 'now' : 'no longer'} be null.`)
  }
  for (const gone of before.keys()) differences.push(`${name} no longer has the column ${gone}.`)
  return differences
}

function stepName(step: PrepareStep): string {
  return step.step === 'create schema'
    ? `create the schema ${step.schema}`
    : `${step.step.replace(' table', '')} the table ${printName(step.table)}`
}
