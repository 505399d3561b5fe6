/** What a plan says now that it did not say when it was shown: a start is exactly what was shown, or it is refused. */
import { datasetId, printName } from '../records/dataset.ts'
import { laneId, takenFrom, type Lane, type WrittenColumn } from './lane.ts'
import { hinders, someOf, type PlanNote } from './note.ts'
import type { Plan } from './plan.ts'
import type { PrepareStep } from './steps.ts'

/** What of a plan must be as it was shown. Sizes are not: rows come and go. */
export type PlanOutline = Pick<Plan, 'steps' | 'change'> & {
  lanes: Omit<Lane, 'rows' | 'rowsExact' | 'bytes'>[]
  /** Those that speak of harm. */
  notes: Omit<PlanNote, 'message' | 'remedy'>[]
}

export function outlineOf({ lanes, steps, notes, change }: Plan): PlanOutline {
  return {
    ...(change ? { change } : {}),
    lanes: lanes.map(({ rows: _rows, rowsExact: _exact, bytes: _bytes, ...lane }) => lane),
    steps,
    notes: notes
      .filter(note => hinders(note) || note.level === 'loss')
      .map(({ level, section, tables }) => ({ level, section, ...(tables ? { tables } : {}) })),
  }
}

/** In sentences; none when the plans say the same. */
export function planDifference(shown: PlanOutline, now: PlanOutline): string[] {
  const differences: string[] = []
  const before = new Map(shown.lanes.map(lane => [laneId(lane), lane]))
  for (const lane of now.lanes) {
    const name = printLane(lane)
    const was = before.get(laneId(lane))
    before.delete(laneId(lane))
    if (!was) differences.push(`${name} has come to it.`)
    else differences.push(...laneDifference(name, was, lane))
  }
  for (const lane of before.values()) differences.push(`${printLane(lane)} is no longer in it.`)
  const stepsBefore = new Set(shown.steps.map(stepName))
  for (const step of now.steps)
    if (!stepsBefore.has(stepName(step))) differences.push(`It would ${stepName(step)}.`)
  const notesBefore = new Set(shown.notes.map(note => JSON.stringify(note)))
  for (const note of now.notes) {
    if (notesBefore.has(JSON.stringify(note))) continue
    const about = note.tables ? ` about ${someOf(note.tables.map(printName))}` : ''
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
  if (JSON.stringify(was.identity) !== JSON.stringify(lane.identity))
    differences.push(
      `The key of ${name} is ${lane.identity.join(', ')} instead of ${was.identity.join(', ')}.`,
    )
  const before = new Map(was.reads.map(column => [column.name, column]))
  const writtenAs = (lane: PlanOutline['lanes'][number], column: string) =>
    lane.writes.filter(one => takenFrom(one) === column).map(written)
  for (const column of lane.reads) {
    const known = before.get(column.name)
    before.delete(column.name)
    const [now] = writtenAs(lane, column.name)
    if (!known) differences.push(`${name} has a new column ${column.name}.`)
    else if (known.nativeType !== column.nativeType)
      differences.push(`${name}.${column.name} is ${column.nativeType} instead of ${known.nativeType}.`)
    else if (writtenAs(was, column.name)[0] !== now)
      differences.push(`${name}.${column.name} becomes ${now ?? 'nothing'}.`)
    else if (known.nullable !== column.nullable)
      differences.push(`${name}.${column.name} may ${column.nullable ? 'now' : 'no longer'} be null.`)
  }
  for (const gone of before.keys()) differences.push(`${name} no longer has the column ${gone}.`)
  return differences
}

function printLane({ origin, source }: Pick<Lane, 'origin' | 'source'>): string {
  return origin === undefined ? printName(source) : `${printName(source)} of ${origin}`
}

function written({ name, nativeType }: WrittenColumn): string {
  return `${name} ${nativeType}`
}

function stepName(step: PrepareStep): string {
  return step.step === 'create schema'
    ? `create the schema ${step.schema}`
    : `${step.step.replace(' table', '')} the table ${printName(step.table)}`
}
