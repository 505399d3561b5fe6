/** Going back to another position, and what it would do; positions that are kept for it. */
import type Router from '@koa/router'
import type { PositionsAnswer, RewindForesight } from '@tide/core/api/rewind'
import { runsOf, sourceOf, type PipelineRecord } from '@tide/core/definition/pipeline'
import { Failure } from '@tide/core/failure'
import { presentPositionStatement, type PlaceAsked } from '@tide/core/position/find'
import type { Position } from '@tide/core/position/position'
import { foreseeRewind } from '@tide/engine/journal/foresee-rewind'
import { holds, isoOf, placeFor } from '@tide/engine/journal/look-back'
import { pipelineRecord } from '../pipeline-record.ts'
import type { Services } from '../services.ts'
import { valid } from '../validate.ts'

const place = {
  time: { type: 'string', title: 'Time', maxLength: 40 },
  position: { type: 'string', title: 'Position', minLength: 1, maxLength: 4000 },
}
const toSchema = {
  type: 'object',
  additionalProperties: false,
  properties: place,
  minProperties: 1,
  maxProperties: 1,
}
const rewindSchema = {
  type: 'object',
  additionalProperties: false,
  properties: { ...place, reason: { type: 'string', title: 'Reason', minLength: 1, maxLength: 500 } },
}
const markSchema = {
  type: 'object',
  additionalProperties: false,
  required: ['note'],
  properties: { note: { type: 'string', title: 'Note', minLength: 1, maxLength: 200 } },
}

export function rewindRoutes(router: Router, services: Services): void {
  const { store, engine } = services

  /** Query: `time` or `position`. */
  router.get('/pipelines/:id/rewind', async ctx => {
    const record = await pipelineRecord(services, ctx.params.id!)
    ctx.body = await foresee(services, record, toOf(ctx.query))
  })

  router.post('/pipelines/:id/rewind', async ctx => {
    const { reason = null, ...asked } = valid<{ reason?: string }>(
      rewindSchema,
      ctx.request.body ?? {},
      'Rewind',
    )
    const to = toOf(asked)
    const id = ctx.params.id!
    await engine.inTurn(id, async () => {
      const record = await pipelineRecord(services, id)
      const foreseen = await foresee(services, record, to)
      const moved = foreseen.filter(({ way }) => way !== 'nowhere')
      if (moved.length === 0)
        throw refused('It stands there already.', 'Choose a position that lies before it, or behind it.')
      if (moved.some(({ way }) => way === 'forward') && reason === null)
        throw refused('Changes would be left out.', 'Say why they are.')
      const places = moved.map(async ({ run, position }) => {
        const one = runsOf(record).find(({ id }) => id === run)!
        return { run, to: (await journalOf(services, one)).position(position) }
      })
      await engine.deeds.rewind(id, await Promise.all(places), reason)
    })
    ctx.body = await engine.status(id)
  })

  router.get('/pipelines/:id/positions', async ctx => {
    const record = await pipelineRecord(services, ctx.params.id!)
    ctx.body = await positions(services, record)
  })

  /** Keeps where the pipeline stands now, under a name. */
  router.post('/pipelines/:id/marks', async ctx => {
    const { note } = valid<{ note: string }>(markSchema, ctx.request.body ?? {}, 'Mark')
    const record = await pipelineRecord(services, ctx.params.id!)
    for (const run of runsOf(record)) {
      const stands = await presentOf(services, run)
      const at = new Date().toISOString()
      const { completeUpTo } = await engine.status(run.id)
      await store.positions.keep({ pipeline: run.id, kind: 'mark', at, position: stands, completeUpTo, note })
    }
    ctx.body = await positions(services, record)
  })

  router.delete('/pipelines/:id/marks/:mark', async ctx => {
    const record = await pipelineRecord(services, ctx.params.id!)
    const gone = await Promise.all(
      runsOf(record).map(({ id }) => store.positions.forget(id, Number(ctx.params.mark) || 0)),
    )
    if (!gone.includes(true)) throw refused('There is no such mark.', 'Look at the list again.')
    ctx.body = await positions(services, record)
  })
}

function toOf(asked: unknown): PlaceAsked {
  return valid<PlaceAsked>(toSchema, asked, 'Where to')
}

async function foresee(
  services: Services,
  record: PipelineRecord,
  to: PlaceAsked,
): Promise<RewindForesight[]> {
  const runs = runsOf(record)
  if (runs.length > 1 && 'position' in to) {
    throw refused(
      'A position is of one source, and this pipeline has several.',
      'Give a time, or rewind one origin.',
    )
  }
  return Promise.all(runs.map(run => foreseeOne(services, run, to)))
}

async function foreseeOne(services: Services, run: PipelineRecord, to: PlaceAsked): Promise<RewindForesight> {
  const journal = await journalOf(services, run)
  const { now } = services.journals.of(sourceOf(run)).clock
  return foreseeRewind(journal, run, await presentOf(services, run), await placeFor(journal, to, now))
}

async function positions(services: Services, record: PipelineRecord): Promise<PositionsAnswer> {
  const runs = runsOf(record)
  const journals = await Promise.all(
    runs.map(async run => ({ run, journal: await services.journals.of(sourceOf(run)).there() })),
  )
  const saved = await services.store.positions.of(record.id)
  return {
    saved: saved.map(({ pipeline, position, ...rest }) => {
      const journal = journals.find(({ run }) => run.id === pipeline)?.journal
      return { ...rest, position: position.at, held: journal !== undefined && holds(journal, position) }
    }),
    journals: journals.flatMap(({ run, journal }) => {
      if (!journal) return []
      const { kind, start, end } = journal.facts()
      const place = ({ position, at }: { position: string; at: number }) => ({
        position,
        at: at > 0 ? isoOf(at) : null,
      })
      const statement = presentPositionStatement(kind) ?? null
      return { run: run.id, origin: run.origin, kind, statement, start: place(start), end: place(end) }
    }),
  }
}

async function journalOf(services: Services, run: PipelineRecord) {
  const journal = run.state === 'Draft' ? undefined : await services.journals.of(sourceOf(run)).there()
  if (journal) return journal
  throw refused(
    'There is no journal of this source here.',
    run.home !== null && run.home !== services.home
      ? 'Ask the server whose engine runs this pipeline.'
      : 'Start the pipeline first.',
  )
}

/** Where it stands: as its engine says, or, when nothing of it runs, where it stopped. */
async function presentOf(services: Services, run: PipelineRecord): Promise<Position> {
  const { position } = await services.engine.status(run.id)
  if (position !== null) return (await journalOf(services, run)).position(position)
  const [last] = await services.store.positions.of(run.id)
  if (last) return last.position
  throw refused('It is not known where this pipeline stands.', 'Continue it first.')
}

function refused(message: string, remedy: string): Failure {
  return new Failure('refused', message, remedy)
}
