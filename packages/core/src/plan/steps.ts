/** What a start does at the target before the first row. */
import { Type, type Static } from 'typebox'
import { columnSchema } from '../records/column.ts'
import { datasetNameSchema, printName } from '../records/dataset.ts'
import type { Lane } from './lane.ts'
import type { PlanNote } from './note.ts'
import type { PlanInput } from './input.ts'
import { sameTable } from './tables.ts'

export const prepareStepSchema = Type.Union([
  Type.Object({ step: Type.Literal('create schema'), schema: Type.String() }),
  Type.Object({
    /** `replace table` drops the pipeline's own table with its rows and makes it anew. */
    step: Type.Union([Type.Literal('create table'), Type.Literal('replace table')]),
    table: datasetNameSchema,
    columns: Type.Array(columnSchema),
    key: Type.Array(Type.String()),
  }),
])

/** A step that prepares the target. */
export type PrepareStep = Static<typeof prepareStepSchema>

export function planSteps(
  lanes: readonly Lane[],
  schema: string,
  { targetSchemas, target, own, profile }: PlanInput,
  notes: PlanNote[],
): PrepareStep[] {
  const steps: PrepareStep[] = []
  if (schema && !targetSchemas.some(there => profile.sameName(there, schema)))
    steps.push({ step: 'create schema', schema })
  for (const lane of lanes) {
    const replaced = target.find(there => sameTable(profile, there, lane.target))
    steps.push({
      step: replaced ? 'replace table' : 'create table',
      table: lane.target,
      columns: lane.writes.map(({ name, type, nativeType, nullable }) => ({
        name,
        type,
        nativeType,
        nullable,
      })),
      key: lane.key,
    })
    if (!replaced || !own.some(table => sameTable(profile, table, lane.target))) continue
    notes.push({
      level: 'loss',
      message: `${printName(lane.target)} and its ${replaced.rows} rows are replaced.`,
      remedy: 'This pipeline made it; it is made and copied anew.',
      table: lane.source,
      section: 'to',
    })
  }
  return steps
}
