/** What can be done with a pipeline at a set time: how it begins, and when it is over. */
import type { Doing, KeptSchedule } from '@tide/core/definition/schedule'
import { runsOf, sourceOf } from '@tide/core/definition/pipeline'
import { agrees, differing } from '@tide/core/definition/verification'
import { Failure } from '@tide/core/failure'
import { orderOf } from '@tide/core/scope/order'
import { pipelineRecord } from './pipeline-record.ts'
import type { Services } from './services.ts'
import { startPipeline } from './start.ts'

export interface Outcome {
  well: boolean
  said: string
}

const moments = orderOf({ kind: 'timestamp', zoned: true })
const reached = (completeUpTo: string | null, time: string) =>
  completeUpTo !== null && moments.compare(moments.parse(completeUpTo), moments.parse(time)) > 0

const PACE = { rowsPerSecond: null, pauseAboveSeconds: 60 }

/** Which of the pipelines that it waits for is not complete up to the set time, in words; undefined: none. */
export async function missing(
  { engine, store }: Services,
  { waitsFor, only }: Pick<KeptSchedule, 'waitsFor' | 'only'>,
  { tick }: Doing,
): Promise<string | undefined> {
  if (only === 'landed') return undefined
  for (const id of waitsFor) {
    // What was deleted is waited for no longer.
    if (!(await store.pipelines.get(id))) continue
    const { definition, completeUpTo, consistent } = await engine.status(id)
    if (!consistent || !reached(completeUpTo, tick))
      return `“${definition.name}” was not complete up to ${tick}`
  }
  return undefined
}

/** By each of those pipelines what has landed so far, as a text that is another one when more has. */
export async function landedOf(
  { engine, store }: Services,
  { waitsFor }: Pick<KeptSchedule, 'waitsFor'>,
): Promise<Record<string, string>> {
  const landed: Record<string, string> = {}
  for (const id of waitsFor) {
    if (!(await store.pipelines.get(id))) continue
    const { lanes } = await engine.status(id)
    // Another copy may have brought as many rows as the one before.
    const [copy] = await store.runs.list({ pipeline: id, kinds: ['copy'] }, 1)
    const rows = lanes.reduce(
      (sum, { copiedRows, inserted, updated, deleted }) => sum + copiedRows + inserted + updated + deleted,
      0,
    )
    landed[id] = `${copy?.id ?? 'no copy'} ${rows}`
  }
  return landed
}

/** Throws a Failure where it cannot be done as the pipeline stands. Doing it twice does no harm. */
export async function begin(
  services: Services,
  { pipeline, deed }: KeptSchedule,
  doing: Doing,
): Promise<Doing> {
  const { engine } = services
  switch (deed) {
    case 'verify':
    case 'count': {
      const level = deed === 'count' ? 'counts' : 'rows'
      const verification = await engine.inTurn(pipeline, () =>
        engine.deeds.verify(pipeline, { lanes: [], level, pace: PACE }),
      )
      return { ...doing, verification }
    }
    case 'catch up': {
      const upTo = await sourceClocks(services, pipeline)
      const { state, definition } = await pipelineRecord(services, pipeline)
      if (state === 'Paused') await engine.inTurn(pipeline, () => engine.continue(pipeline))
      else if (state !== 'Following' && state !== 'Copying')
        throw new Failure(
          'refused',
          `“${definition.name}” is ${state.toLowerCase()}.`,
          'Start it, or continue it.',
        )
      return { ...doing, upTo }
    }
    case 'pause':
      await engine.inTurn(pipeline, () => engine.pause(pipeline))
      return doing
    case 'continue':
      await engine.inTurn(pipeline, () => engine.continue(pipeline))
      return doing
    case 'recopy':
      await engine.inTurn(pipeline, () => engine.deeds.recopy(pipeline, []))
      return doing
    case 'start':
      await engine.inTurn(pipeline, () => startPipeline(services, pipeline, undefined))
      return doing
    case 'send':
      return {
        ...doing,
        errand: await engine.inTurn(pipeline, () => engine.deeds.send(pipeline, { deed: 'run' })),
      }
    case 'keep':
      return {
        ...doing,
        errand: await engine.inTurn(pipeline, () => engine.deeds.twoWay(pipeline, { deed: 'keep' })),
      }
  }
}

/** What came of it; undefined while it is not over. */
export async function goOn(
  services: Services,
  { pipeline, deed }: KeptSchedule,
  doing: Doing,
): Promise<Outcome | undefined> {
  switch (deed) {
    case 'verify':
    case 'count':
      return verified(services, pipeline, doing.verification!)
    case 'catch up':
      return caughtUp(services, pipeline, doing.upTo!)
    case 'pause':
      return { well: true, said: 'Paused.' }
    case 'continue':
      return { well: true, said: 'Continued.' }
    case 'recopy':
      return { well: true, said: 'Its tables are copied again.' }
    case 'start':
      return { well: true, said: 'Started.' }
    case 'send':
    case 'keep':
      return doneBy(services, doing.errand!)
  }
}

async function doneBy({ store }: Services, id: string): Promise<Outcome | undefined> {
  const errand = await store.errands.get(id)
  if (!errand) return { well: false, said: 'It is not known any more.' }
  if (errand.endedAt === null) return undefined
  return { well: errand.state === 'done', said: errand.outcome ?? '' }
}

async function sourceClocks(services: Services, pipeline: string): Promise<Record<string, string>> {
  const clocks: Record<string, string> = {}
  for (const run of runsOf(await pipelineRecord(services, pipeline))) {
    clocks[run.id] = await services.sessions.use(sourceOf(run), async session => {
      if (session.clock) return session.clock()
      throw new Failure('refused', 'Its source does not tell its time.', 'Pause and continue it instead.')
    })
  }
  return clocks
}

async function verified({ store }: Services, pipeline: string, id: string): Promise<Outcome | undefined> {
  const lanes = (await store.verifications.list(pipeline, 50)).find(one => one.id === id)?.lanes
  if (!lanes) return { well: false, said: 'The verification is not there any more.' }
  if (lanes.some(({ verified }) => verified.endedAt === null)) return undefined
  const failed = lanes.find(({ verified }) => verified.problem)?.verified.problem
  if (failed) return { well: false, said: `${failed.message} ${failed.remedy}` }
  const differ = lanes.reduce((sum, lane) => sum + differing(lane.verified), 0)
  const well = lanes.every(lane => agrees(lane.verified) === true)
  const n = (count: number, one: string) => `${count.toLocaleString('en')} ${one}${count === 1 ? '' : 's'}`
  if (well) return { well, said: `Both sides of ${n(lanes.length, 'lane')} agree.` }
  return {
    well,
    said: differ > 0 ? `${n(differ, 'row')} of ${n(lanes.length, 'lane')} differ.` : 'Not all lanes agree.',
  }
}

/** Lets it rest as soon as all that its sources had when it began has landed. */
async function caughtUp(
  services: Services,
  pipeline: string,
  upTo: Readonly<Record<string, string>>,
): Promise<Outcome | undefined> {
  const { engine } = services
  const record = await pipelineRecord(services, pipeline)
  for (const run of runsOf(record)) {
    const time = upTo[run.id]
    const { state, completeUpTo, reason } = await engine.status(run.id)
    if (state === 'Stopped')
      return { well: false, said: reason ? `${reason.message} ${reason.remedy}` : 'It was stopped.' }
    if (time !== undefined && !reached(completeUpTo, time)) return undefined
  }
  if (record.state === 'Following') await engine.inTurn(pipeline, () => engine.pause(pipeline))
  return { well: true, said: `Caught up to ${Object.values(upTo).sort()[0]}, and rests.` }
}
