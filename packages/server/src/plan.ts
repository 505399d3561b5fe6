import { NO_PLAN, type PlanAnswer } from '@tide/core/api/plans'
import type { Definition } from '@tide/core/definition/definition'
import { Failure } from '@tide/core/failure'
import { makePlan } from '@tide/core/plan/plan'
import type { Claim } from '@tide/core/plan/input'
import { noteChecks } from '@tide/core/plan/checks'
import { byHarm, type PlanNote } from '@tide/core/plan/note'
import type { PipelineRecord } from '@tide/core/definition/pipeline'
import { datasetId, type DatasetName } from '@tide/core/records/dataset'
import type { Services } from './services.ts'

export interface PlanFor {
  /** The id of the pipeline it is for; what belongs to others is refused. */
  pipeline: string | undefined
  /** Looks at both systems now, not at what was found a moment ago. */
  fresh: boolean
  /** The pipeline runs already, so that what a start needs of the systems is there. */
  runs?: boolean
}

/** The plan of a definition as things stand now. */
export async function planFor(
  services: Services,
  definition: Definition,
  { pipeline, fresh, runs }: PlanFor,
): Promise<PlanAnswer> {
  const notes = undecided(definition)
  if (definition.from === '' || definition.to === '') return { ...NO_PLAN, notes }
  const { sessions, store } = services
  const { from, to, names = [] } = definition
  const [source, target] = await Promise.all([sessions.catalogue(from, fresh), sessions.catalogue(to, fresh)])
  const checks = runs ? [] : await checkNotes(services, definition, fresh)
  const claimed = await claims(services, to, pipeline)
  const kinds = await Promise.all([from, to].map(async id => (await store.connections.get(id))?.kind))
  const sameKind = kinds[0] === kinds[1]
  const own = pipeline ? ((await store.pipelines.get(pipeline))?.lanes.map(lane => lane.target) ?? []) : []
  const rate = await store.history.lastCopyRate(from, to)
  return sessions.use(to, targetSession =>
    sessions.use(from, async sourceSession => {
      const targetSide = targetSession.target
      const { log } = sourceSession
      if (!targetSide || !log) {
        throw new Failure('refused', 'These two connections cannot be source and target.', 'Choose others.')
      }
      const plan = makePlan({
        ...definition,
        names,
        sameKind,
        source: source.datasets,
        target: target.datasets,
        targetSchemas: target.schemas,
        profile: targetSide.profile,
        claims: claimed,
        own,
      })
      const captured = plan.lanes.map(lane => lane.source)
      return {
        ...plan,
        digest: services.shownPlans.show(definition, plan),
        notes: [...notes, ...checks, ...plan.notes].sort(byHarm),
        statements: targetSide.ddl(plan.steps),
        sourceStatements: captured.length > 0 ? await log.captureStatements(from, captured) : [],
        captureNote: log.captureNote,
        estimateSeconds: rate ? plan.rows / rate : null,
      }
    }),
  )
}

/** The plan for what these tables add to a pipeline that runs; its own tables are not touched. */
export async function planForMore(
  services: Services,
  { definition, lanes }: PipelineRecord,
  tables: readonly DatasetName[],
  fresh: boolean,
): Promise<PlanAnswer> {
  const present = new Set(lanes.map(lane => datasetId(lane.source)))
  const added = tables.filter(table => !present.has(datasetId(table)))
  const more = { ...definition, tables: added, without: [], patterns: [] }
  // For no pipeline: what belongs to this very one is refused as well.
  const plan = await planFor(services, more, { pipeline: undefined, fresh, runs: true })
  // What the rules do elsewhere was said when it was started.
  const notes = plan.notes.filter(({ level, tables }) => level !== 'warning' || tables)
  if (added.length > 0) return { ...plan, notes }
  return { ...plan, notes: [undecidedNote('tables', 'No further table is ticked.', 'Tick those to add.')] }
}

/** What the tests of both connections say that would stop a start. */
async function checkNotes(
  { store, checked }: Services,
  { from, to }: Definition,
  fresh: boolean,
): Promise<PlanNote[]> {
  const side = async (which: 'from' | 'to', id: string) => {
    const [record, items] = await Promise.all([store.connections.get(id), checked.of(id, fresh)])
    return noteChecks(which, record?.name ?? '', items)
  }
  return (await Promise.all([side('from', from), side('to', to)])).flat()
}

/** What nobody has said yet. The name comes last: choosing source and target proposes one. */
function undecided({ name, from, to }: Definition): PlanNote[] {
  const notes: PlanNote[] = []
  if (from === '')
    notes.push(undecidedNote('from', 'No source is chosen.', 'Choose where the records come from.'))
  if (to === '') notes.push(undecidedNote('to', 'No target is chosen.', 'Choose where the records go.'))
  if (name.trim() === '' && notes.length === 0)
    notes.push(undecidedNote('name', 'The pipeline has no name.', 'Give it one.'))
  return notes
}

function undecidedNote(section: PlanNote['section'], message: string, remedy: string): PlanNote {
  return { level: 'undecided', section, message, remedy }
}

/** Tables that other pipelines write to in the same system, through whichever connection. */
async function claims(services: Services, to: string, except: string | undefined): Promise<Claim[]> {
  const systemOf = await targetSystems(services)
  const tables = (lanes: { target: DatasetName }[], name: string): Claim[] =>
    lanes.map(lane => ({ pipeline: name, table: lane.target }))
  return (await services.store.pipelines.list())
    .filter(({ id, definition }) => id !== except && systemOf(definition.to) === systemOf(to))
    .flatMap(({ lanes, definition }) => tables(lanes, definition.name))
}

/** The physical system that a connection reaches, as a text to compare. */
export async function targetSystems({
  store,
  connector,
}: Services): Promise<(id: string) => string | undefined> {
  const connections = new Map((await store.connections.list()).map(one => [one.id, one]))
  return id => {
    const connection = connections.get(id)
    return connection && `${connection.kind} ${connector(connection.kind).identity(connection.config)}`
  }
}
