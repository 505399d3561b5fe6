import { NO_PLAN, type PlanAnswer } from '@tide/core/api/plans'
import { asReplication, type ReplicateDefinition } from '@tide/core/definition/definition'
import { originsOf, type Origin } from '@tide/core/definition/origins'
import { Failure } from '@tide/core/failure'
import type { LaneFate } from '@tide/core/plan/change'
import { isLake } from '@tide/core/definition/files'
import { makePlan } from '@tide/core/plan/plan'
import type { Lane } from '@tide/core/plan/lane'
import type { Claim } from '@tide/core/plan/input'
import { noteChecks } from '@tide/core/plan/checks'
import { byHarm, type PlanNote } from '@tide/core/plan/note'
import type { PipelineRecord } from '@tide/core/definition/pipeline'
import { datasetId, type DatasetName } from '@tide/core/records/dataset'
import { followableFrom } from '@tide/engine/journal/look-back'
import { statusTableNames } from '@tide/core/plan/status'
import { placeAsked } from '@tide/core/position/find'
import { sameDefinition } from '@tide/core/definition/file'
import type { Services } from './services.ts'

export interface PlanFor {
  /** The id of the pipeline it is for; what belongs to others is refused. */
  pipeline: string | undefined
  /** Looks at both systems now, not at what was found a moment ago. */
  fresh: boolean
  /** The pipeline runs already, so that what a start needs of the systems is there. */
  runs?: boolean
  /** Its lanes while it runs: what goes on, and what has to be done. */
  running?: readonly Lane[]
}

/** The plan of a definition as things stand now. */
export async function planFor(
  services: Services,
  definition: ReplicateDefinition,
  { pipeline, fresh, runs, running }: PlanFor,
): Promise<PlanAnswer> {
  const notes = undecided(definition)
  const { sessions, store } = services
  const { to, names = [] } = definition
  const origins = originsOf(definition)
  if (to === '' || origins.some(({ connection }) => connection === '')) return { ...NO_PLAN, notes }
  const sources = origins.map(({ connection }) => connection)
  const [target, ...catalogues] = await Promise.all([
    sessions.catalogue(to, fresh),
    ...sources.map(id => sessions.catalogue(id, fresh)),
  ])
  const checks = runs ? [] : await checkNotes(services, definition, fresh)
  const claimed = await claims(services, to, pipeline)
  const [kind, ...kinds] = await Promise.all(
    [to, ...sources].map(async id => (await store.connections.get(id))?.kind),
  )
  const own = pipeline ? tablesOf((await store.pipelines.get(pipeline))?.lanes ?? []) : []
  return sessions.use(to, async targetSession => {
    const targetSide = targetSession.target
    if (!targetSide) throw new Failure('refused', 'This connection cannot be a target.', 'Choose another.')
    const plan = makePlan({
      ...definition,
      names,
      origins: origins.map(({ tag }, i) => ({
        tag,
        // What files hold has the types of no system.
        sameKind: kinds[i] === kind && !isLake(kind),
        source: catalogues[i]!.datasets,
      })),
      target: target.datasets,
      targetSchemas: target.schemas,
      profile: targetSide.profile,
      claims: claimed,
      own,
      ...(running ? { running } : {}),
    })
    const { lanes, change } = plan
    const has = (fates: LaneFate[]) =>
      lanes.filter((_, i) => !change || fates.includes(change.lanes[i]!.fate))
    const archives = definition.does === 'archive'
    const captures = definition.does === 'structure' ? [] : has(['copied'])
    const capture = archives
      ? {
          sourceStatements: [],
          captureNote: 'Nothing is captured there: rows are read, and deleted as they were read.',
        }
      : await captureOf(services, origins, captures)
    const removal = archives ? await removalNotes(services, definition, lanes) : []
    return {
      ...plan,
      digest: services.shownPlans.show(definition, plan),
      notes: [
        ...notes,
        ...checks,
        ...plan.notes,
        ...removal,
        ...(await beginnings(services, definition, lanes)),
      ].sort(byHarm),
      statements: targetSide.ddl(plan.steps),
      ...capture,
      estimateSeconds: await estimate(
        services,
        to,
        origins,
        has(['copied', 'copied again', 'filled']).filter(({ there }) => there !== 'are the copy'),
      ),
    }
  })
}

/** Why following cannot begin where it is asked to. */
async function beginnings(
  { journals }: Services,
  definition: ReplicateDefinition,
  lanes: readonly Lane[],
): Promise<PlanNote[]> {
  const { does, followFrom } = definition
  if (does !== 'follow' || followFrom === undefined) return []
  const asked = placeAsked(followFrom)
  const origins = originsOf(definition)
  const refuse = (message: string, remedy: string): PlanNote => ({
    level: 'refused',
    section: 'start',
    message,
    remedy,
  })
  if (origins.length > 1 && 'position' in asked)
    return [refuse('A position is of one source, and there are several.', 'Begin at a time.')]
  const notes = origins.map(async ({ connection, tag }) => {
    const own = lanes.filter(({ origin = '' }) => origin === tag).map(lane => lane.source)
    const journal = await journals.of(connection).there()
    if (!journal)
      return refuse(
        `There is no journal of ${tag || 'the source'} yet: nothing has followed it.`,
        'Follow from the start on.',
      )
    try {
      await followableFrom(journal, own, asked, journals.of(connection).clock.now)
      return []
    } catch (thrown) {
      if (!(thrown instanceof Failure) || thrown.kind !== 'refused') throw thrown
      return refuse(thrown.message, thrown.remedy)
    }
  })
  return (await Promise.all(notes)).flat()
}

/** Why rows of these tables cannot be deleted at the source as an archive does. */
async function removalNotes(
  { sessions }: Services,
  { from, elsewhere }: ReplicateDefinition,
  lanes: readonly Lane[],
): Promise<PlanNote[]> {
  if (typeof from !== 'string') return []
  return sessions.use(from, async ({ removal }) => {
    if (!removal)
      return [
        {
          level: 'refused',
          section: 'from',
          message: 'Rows of this source cannot be deleted from here.',
          remedy: 'Archive from PostgreSQL or MariaDB.',
        },
      ]
    const notes: PlanNote[] = []
    for (const { source } of lanes) {
      try {
        await removal.inspect(source, elsewhere !== 'go')
      } catch (thrown) {
        if (!(thrown instanceof Failure) || thrown.kind !== 'structural') throw thrown
        const { message, remedy } = thrown
        notes.push({ level: 'refused', section: 'start', message, remedy, tables: [source] })
      }
    }
    return notes
  })
}

/** What is done at the sources, the statements of each under its tag. */
async function captureOf(
  { sessions }: Services,
  origins: readonly Origin[],
  lanes: readonly Lane[],
): Promise<Pick<PlanAnswer, 'sourceStatements' | 'captureNote'>> {
  const captures = await Promise.all(
    origins.map(({ connection, tag }) =>
      sessions.use(connection, async ({ log }) => {
        if (!log) throw new Failure('refused', 'This connection cannot be a source.', 'Choose another.')
        const own = lanes.filter(({ origin = '' }) => origin === tag).map(lane => lane.source)
        const statements = own.length > 0 ? await log.captureStatements(connection, own) : []
        return { tag, statements, note: log.captureNote }
      }),
    ),
  )
  return {
    sourceStatements: captures.flatMap(({ tag, statements }) =>
      tag === '' || statements.length === 0
        ? statements
        : [`-- ${tag.replace(/[\r\n]/g, ' ')}`, ...statements],
    ),
    captureNote: [...new Set(captures.map(({ note }) => note))].join(' '),
  }
}

/** The origins are copied side by side; unknown where one of them is. */
async function estimate(
  { store }: Services,
  to: string,
  origins: readonly Origin[],
  lanes: readonly Lane[],
): Promise<number | null> {
  const seconds = await Promise.all(
    origins.map(async ({ connection, tag }) => {
      const rate = await store.runs.lastCopyRate(connection, to)
      const own = lanes.filter(({ origin = '' }) => origin === tag)
      return rate === null ? null : own.reduce((sum, { rows }) => sum + rows, 0) / rate
    }),
  )
  return seconds.includes(null) ? null : Math.max(...(seconds as number[]))
}

/** The plan for what these tables add to a pipeline that runs; its own tables are not touched. */
export async function planForMore(
  services: Services,
  { definition: present, lanes: running }: PipelineRecord,
  tables: readonly DatasetName[],
  fresh: boolean,
): Promise<PlanAnswer> {
  const there = new Set(running.map(lane => datasetId(lane.source)))
  const added = tables.filter(table => !there.has(datasetId(table)))
  const more = { ...asReplication(present), tables: added, without: [], patterns: [] }
  // For no pipeline: what belongs to this very one is refused as well.
  const plan = await planFor(services, more, { pipeline: undefined, fresh, runs: true })
  // What the rules do elsewhere was said when it was started.
  return { ...plan, notes: plan.notes.filter(({ level, tables }) => level !== 'warning' || tables) }
}

/** The plan by which a pipeline that runs becomes what another definition says. */
export async function planForChange(
  services: Services,
  { id, definition: present, lanes }: PipelineRecord,
  definition: ReplicateDefinition,
  fresh: boolean,
): Promise<PlanAnswer> {
  const now = asReplication(present)
  const plan = await planFor(services, definition, { pipeline: id, fresh, runs: true, running: lanes })
  const notes = [...plan.notes, ...refuseElsewhere(now, definition)]
  if (sameDefinition(now, definition) && now.name === definition.name)
    notes.push(undecidedNote('tables', 'Nothing is changed.', 'Change what is to be otherwise.'))
  return { ...plan, notes: notes.sort(byHarm) }
}

/** What cannot be changed while it runs. */
function refuseElsewhere(now: ReplicateDefinition, next: ReplicateDefinition): PlanNote[] {
  const refuse = (section: PlanNote['section'], message: string): PlanNote => ({
    level: 'refused',
    section,
    message,
    remedy: 'Stop the pipeline for that, or make another one.',
  })
  const notes: PlanNote[] = []
  if (now.does === 'archive') notes.push(refuse('start', 'An archive is not changed while it runs.'))
  if (now.does !== next.does)
    notes.push(refuse('start', 'What the pipeline does cannot be changed while it runs.'))
  if (now.to !== next.to) notes.push(refuse('to', 'The target cannot be changed while the pipeline runs.'))
  const [before, after] = [originsOf(now), originsOf(next)]
  const gone = before.filter(
    ({ connection, tag }) => !after.some(one => one.connection === connection && one.tag === tag),
  )
  if (gone.length > 0)
    notes.push(
      refuse(
        'from',
        before.length === 1
          ? 'The source cannot be changed while the pipeline runs.'
          : `${gone.map(({ tag }) => tag).join(', ')} cannot be taken out or named otherwise while the pipeline runs.`,
      ),
    )
  return notes
}

/** What the tests of both connections say that would stop a start. */
async function checkNotes(
  { store, checked }: Services,
  { to, ...definition }: ReplicateDefinition,
  fresh: boolean,
): Promise<PlanNote[]> {
  const side = async (which: 'from' | 'to', id: string) => {
    const [record, items] = await Promise.all([store.connections.get(id), checked.of(id, fresh)])
    return noteChecks(which, record?.name ?? '', items)
  }
  const sources = originsOf(definition).map(({ connection }) => side('from', connection))
  return (await Promise.all([...sources, side('to', to)])).flat()
}

/** What nobody has said yet. The name comes last: choosing source and target proposes one. */
function undecided({ name, to, ...definition }: ReplicateDefinition): PlanNote[] {
  const notes: PlanNote[] = []
  if (originsOf(definition).some(({ connection }) => connection === ''))
    notes.push(undecidedNote('from', 'No source is chosen.', 'Choose where the records come from.'))
  if (to === '') notes.push(undecidedNote('to', 'No target is chosen.', 'Choose where the records go.'))
  if (name.trim() === '' && notes.length === 0)
    notes.push(undecidedNote('name', 'The pipeline has no name.', 'Give it one.'))
  return notes
}

function undecidedNote(section: PlanNote['section'], message: string, remedy: string): PlanNote {
  return { level: 'undecided', section, message, remedy }
}

/** All tables that lanes write to, those of their history among them. */
function tablesOf(lanes: readonly Lane[]): DatasetName[] {
  return lanes.flatMap(({ target, history }) => (history ? [target, history.table] : [target]))
}

/** Tables that other pipelines write to in the same system, through whichever connection. */
async function claims(services: Services, to: string, except: string | undefined): Promise<Claim[]> {
  const systemOf = await targetSystems(services)
  return (await services.store.pipelines.list())
    .filter(({ id, definition }) => id !== except && systemOf(definition.to) === systemOf(to))
    .flatMap(({ lanes, definition }) =>
      [
        ...tablesOf(lanes),
        ...statusTableNames('status' in definition ? definition.status : undefined, lanes),
      ].map(table => ({
        pipeline: definition.name,
        table,
      })),
    )
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
