/** Another plan for a pipeline that runs: what it has to do for that, once, is kept with its records. */
import { asReplication } from '@tide/core/definition/definition'
import { chooser } from '@tide/core/definition/choose'
import { runsOf, type ChangedPlan, type PipelineRecord } from '@tide/core/definition/pipeline'
import { Failure } from '@tide/core/failure'
import type { LaneChange, PlanChange } from '@tide/core/plan/change'
import type { Lane } from '@tide/core/plan/lane'
import type { PrepareStep } from '@tide/core/plan/steps'
import { datasetId, printName } from '@tide/core/records/dataset'
import type { EngineParts } from './parts.ts'

/** The plan of a pipeline with further lanes, by a plan for them alone. */
export function withMore(
  { definition: present, lanes }: PipelineRecord,
  more: { lanes: readonly Lane[]; steps: PrepareStep[] },
): ChangedPlan {
  const definition = asReplication(present)
  const decide = chooser(definition)
  const added = new Map(more.lanes.map(({ source }) => [datasetId(source), source]))
  const byHand = [...added.values()].filter(table => !decide(table).takesPart)
  const stays = lanes.map((_, was): LaneChange => ({ was, fate: 'stays' }))
  return {
    definition: { ...definition, tables: [...definition.tables, ...byHand] },
    lanes: [...lanes, ...more.lanes],
    steps: more.steps,
    change: {
      lanes: [...stays, ...more.lanes.map((): LaneChange => ({ was: null, fate: 'copied' }))],
      takenOut: [],
    },
  }
}

/** `me`: the id of this engine. */
export async function refuseUnready(
  { errands }: Pick<EngineParts, 'errands'>,
  record: PipelineRecord,
  { lanes }: PlanChange,
  me: string,
): Promise<void> {
  const { definition, state } = record
  const keepPlaces = record.lanes.every((_, place) => lanes[place]?.was === place)
  const refuse = (message: string, remedy: string) => {
    throw new Failure('refused', `“${definition.name}” ${message}`, remedy)
  }
  if (state !== 'Following' && state !== 'Paused')
    refuse(`is ${state.toLowerCase()}.`, 'What follows or is paused can be changed while it runs.')
  for (const run of runsOf(record)) {
    if (run.change) refuse('is still being changed.', 'Wait until that is done.')
    // An errand names lanes by their places.
    if (!keepPlaces && (await errands.waiting(run.id)).length > 0)
      refuse('has a recopy waiting.', 'Let it begin first, then change the rest.')
    // Whoever runs an origin elsewhere would still write by the plan of before while the tables are altered.
    if (run.origin !== '' && run.state === 'Following' && run.holder !== me)
      refuse(`is run by another engine at ${run.origin}.`, 'Pause the pipeline, change it, and continue.')
  }
}

export function changeFailed({ definition }: PipelineRecord): Failure {
  return new Failure(
    'refused',
    `“${definition.name}” was changed by somebody else meanwhile.`,
    'Look at its plan again.',
  )
}

/** What a change does, for the log. */
export function printChange({ lanes, change }: ChangedPlan): string {
  const named = (fates: LaneChange['fate'][]) => [
    ...new Set(
      lanes.flatMap(({ source }, i) => (fates.includes(change.lanes[i]!.fate) ? [printName(source)] : [])),
    ),
  ]
  const parts = [
    ['added', named(['copied'])],
    ['copied again', named(['copied again'])],
    ['filled in place', named(['filled'])],
    ['altered in place', named(['altered'])],
    ['shaped otherwise from here on', named(['goes on'])],
  ] as const
  const said = parts.flatMap(([what, tables]) => (tables.length > 0 ? [`${what}: ${tables.join(', ')}`] : []))
  if (change.takenOut.length > 0) said.push(`${change.takenOut.length} lanes taken out`)
  return `Changed${said.length > 0 ? `; ${said.join('; ')}` : ''}.`
}
