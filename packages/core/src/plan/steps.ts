/** What a start does at the target before the first row. */
import { Type, type Static } from 'typebox'
import { alterationSchema } from './alteration.ts'
import { landedFilesSchema } from '../definition/files.ts'
import { columnSchema } from '../records/column.ts'
import { datasetNameSchema, printName, type Dataset } from '../records/dataset.ts'
import type { Lane } from './lane.ts'
import type { PlanNote } from './note.ts'
import type { PlanInput } from './input.ts'
import { tableKey } from './tables.ts'

export const prepareStepSchema = Type.Union([
  Type.Object({ step: Type.Literal('create schema'), schema: Type.String() }),
  Type.Object({
    /** `replace table` drops the pipeline's own table with its rows and makes it anew. */
    step: Type.Union([Type.Literal('create table'), Type.Literal('replace table')]),
    table: datasetNameSchema,
    columns: Type.Array(columnSchema),
    key: Type.Array(Type.String()),
    /** The files that its rows land in, at a lake. */
    files: Type.Optional(landedFilesSchema),
  }),
  Type.Object({
    step: Type.Literal('empty table'),
    table: datasetNameSchema,
    /** Only rows with these values in this column go. */
    part: Type.Optional(Type.Object({ column: Type.String(), values: Type.Array(Type.String()) })),
  }),
  /** Changes a table with its rows. */
  Type.Object({ step: Type.Literal('alter table'), ...alterationSchema.properties }),
])

/** A step that prepares the target. */
export type PrepareStep = Static<typeof prepareStepSchema>

/** What is done with tables that others have made, by `tableKey`; of the others nothing is said. */
export type StepsThere = ReadonlyMap<string, PrepareStep[]>

/** Makes the table of a lane. */
export function tableStep(
  { target: table, writes, key, files, history }: Lane,
  step: 'create table' | 'replace table',
): PrepareStep {
  const written = files?.as === 'changes' ? history!.columns : writes
  const columns = written.map(({ name, type, nativeType, nullable }) => ({
    name,
    type,
    nativeType,
    nullable,
  }))
  return { step, table, columns, key, ...(files ? { files } : {}) }
}

/** Makes the schemas that the tables go into and that are not there. */
export function schemaSteps(lanes: readonly Lane[], { targetSchemas, profile }: PlanInput): PrepareStep[] {
  const steps: PrepareStep[] = []
  const schemas = new Set(targetSchemas.map(profile.nameKey))
  for (const { namespace: schema } of lanes.map(lane => lane.target)) {
    if (schemas.has(profile.nameKey(schema))) continue
    schemas.add(profile.nameKey(schema))
    steps.push({ step: 'create schema', schema })
  }
  return steps
}

export function planSteps(
  lanes: readonly Lane[],
  input: PlanInput,
  there: StepsThere,
  notes: PlanNote[],
): PrepareStep[] {
  const { target, own, profile } = input
  const steps = schemaSteps(lanes, input)
  const present = new Map(target.map(there => [tableKey(profile, there), there]))
  const ours = new Set(own.map(table => tableKey(profile, table)))
  for (const lane of lanes) {
    const key = tableKey(profile, lane.target)
    const replaced = present.get(key)
    const mine = ours.delete(key)
    const said = there.get(key)
    if (said) {
      steps.push(...said)
      continue
    }
    steps.push(tableStep(lane, replaced ? 'replace table' : 'create table'))
    if (!replaced || !mine) continue
    if (lane.files?.as === 'changes') {
      notes.push({
        level: 'warning',
        message: `${printName(lane.target)} goes on behind its ${replaced.rows} rows: its next file says that all is copied anew.`,
        remedy: 'Whoever reads it empties the table that is made of it then; what there is of files stays.',
        tables: [lane.source],
        section: 'to',
      })
      continue
    }
    notes.push({
      level: 'loss',
      message: `${printName(lane.target)} and its ${replaced.rows} rows are replaced.`,
      remedy: 'This pipeline made it; it is made and copied anew.',
      tables: [lane.source],
      section: 'to',
    })
  }
  noteLeftBehind(
    [...ours].flatMap(key => present.get(key) ?? []),
    notes,
  )
  return steps
}

/** Tables that the pipeline made before, under names or of tables that it has no more. */
function noteLeftBehind(left: readonly Dataset[], notes: PlanNote[]): void {
  for (const table of left) {
    notes.push({
      level: 'warning',
      message: `${printName(table)} and its ${table.rows} rows stay as they are: nothing follows them any more.`,
      remedy: 'This pipeline made it before; drop it at the target when nobody reads it.',
      section: 'to',
    })
  }
}
