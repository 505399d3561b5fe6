/** Carries tables from a source session into a target session as an engine would, without one. */
import { singleStream, type Checkpoint } from '@tide/core/checkpoint/checkpoint'
import type { Lane } from '@tide/core/plan/lane'
import { makePlan } from '@tide/core/plan/plan'
import type { Position } from '@tide/core/position/position'
import type { DatasetName } from '@tide/core/records/dataset'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { setTimeout as sleep } from 'node:timers/promises'
import { DeletionGuard } from '@tide/core/apply/deletion-guard'
import { JournalKeeper } from '../../engine/src/journal/keeper.ts'
import { JournaledSource } from '../../engine/src/journal/source.ts'
import type { FollowedTable } from '../../engine/src/journal/followed.ts'
import type { Surroundings } from '../../engine/src/repositories.ts'
import { firstCheckpoint } from '../../engine/src/shapes/replicate/checkpoint.ts'
import { Gatherer } from '../../engine/src/shapes/replicate/gather.ts'
import { Holding } from '../../engine/src/shapes/replicate/holding.ts'
import { MemoryHeld } from '../../engine/tests/memory-held.ts'
import { landOnce, type Landing } from '../../engine/src/shapes/replicate/land.ts'
import { workingLane, type WorkingLane } from '../../engine/src/shapes/replicate/lanes.ts'
import type { Session } from '../src/contract/session.ts'
import type { CommitLoad, TargetLane } from '../src/contract/target.ts'

export const surroundings: Surroundings = {
  now: Date.now,
  random: () => 0.5,
  sleep: (milliseconds, signal) => sleep(milliseconds, undefined, { signal }).catch(() => {}),
  newId: () => 'test',
}

/** A source as an engine would use it: through a journal in a folder of its own. */
export interface From {
  session: Session
  source: JournaledSource
  keeper: JournalKeeper
  /** Stops reading the log until it is read from again. */
  pause(): Promise<void>
  close(): Promise<void>
}

export const READER = 'conformance'

export async function openFrom(open: () => Promise<Session>): Promise<From> {
  const session = await open()
  const folder = mkdtempSync(join(tmpdir(), 'constant-tide-journal-'))
  const keeper = new JournalKeeper(join(folder, 'journal'), READER, open, surroundings)
  const source = new JournaledSource(keeper, session.log!)
  const pause = async () => {
    await source.close()
    await keeper.close()
  }
  return {
    session,
    source,
    keeper,
    pause,
    close: async () => {
      await pause()
      await session.close()
      rmSync(folder, { recursive: true, force: true })
    },
  }
}

/** Commits a load with just this checkpoint. */
export const committing =
  (checkpoint: Checkpoint): CommitLoad =>
  (_, write) =>
    write(checkpoint)

export interface Carried {
  lanes: Lane[]
  working: WorkingLane[]
  source: FollowedTable[]
  target: TargetLane[]
  checkpoint: Checkpoint
}

export const FOLLOWER = 'conformance'

export const positionOf = ({ checkpoint }: Carried): Position => singleStream(checkpoint).position

/** Plans, captures and prepares. */
export async function begin(
  from: From,
  to: Session,
  tables: DatasetName[],
  targetSchema: string,
  sameKind = false,
): Promise<Carried> {
  const [source, target] = [await from.session.catalogue(), await to.catalogue()]
  const plan = makePlan({
    tables,
    targetSchema,
    names: [],
    origins: [{ tag: '', sameKind, source: source.datasets }],
    target: target.datasets,
    targetSchemas: target.schemas,
    profile: to.target!.profile,
    claims: [],
    own: [],
  })
  const refused = plan.notes.filter(note => note.level === 'refused')
  if (refused.length > 0) throw new Error(refused.map(note => note.message).join('\n'))
  const position = await from.source.startCapture(FOLLOWER, tables)
  const checkpoint = firstCheckpoint(FOLLOWER, 1, position, { lanes: plan.lanes, plan: 0 }, 0)
  await to.target!.prepare(plan.steps, checkpoint)
  const working = plan.lanes.map((lane, i) => workingLane(lane, i, { origin: '', hash: text => text }))
  return {
    lanes: plan.lanes,
    working,
    source: working.map(({ source }) => ({ ...source, since: null })),
    target: working.map(({ target }) => target),
    checkpoint,
  }
}

export async function copyAll(from: From, to: Session, carried: Carried): Promise<void> {
  const view = await from.source.view()
  try {
    for (const [i, lane] of carried.source.entries()) {
      carried.source[i] = { ...lane, since: view.position }
      for await (const range of view.copy(lane, null, new AbortController().signal)) {
        await to.target!.load(carried.target[i]!, range, false, committing(carried.checkpoint))
      }
    }
  } finally {
    await view.close()
  }
}

/** Lands what comes next; returns how many parts were cut, too. */
export async function followOnce(
  from: From,
  to: Session,
  carried: Carried,
  atOnce = 1000,
): Promise<Landing & { parts: number }> {
  let parts = 0
  const counting: JournaledSource = Object.assign(Object.create(from.source), {
    read: async (...asked: Parameters<JournaledSource['read']>) => {
      const batch = await from.source.read(...asked)
      if (!batch.complete) parts++
      return batch
    },
  })
  const followed = carried.working.map((lane, i) => ({
    lane,
    since: carried.source[i]!.since,
    kept: null,
  }))
  const gatherer = new Gatherer(counting, followed, to.target!.gathering, atOnce)
  const at = (position: Position): Checkpoint => ({
    ...carried.checkpoint,
    streams: [{ ...singleStream(carried.checkpoint), position }],
  })
  const none = () => Promise.reject(new Error('rows could not be filled'))
  try {
    const clock = () => new Date().toISOString()
    const repository = new MemoryHeld()
    const holding = await Holding.open({
      repository,
      pipeline: 'p',
      lanes: carried.working,
      bounds: { most: 0 },
      clock,
    })
    const landing = await landOnce(
      gatherer,
      followed,
      positionOf(carried),
      {
        target: to.target!,
        fetchRow: none,
        clock,
        holding,
        guard: new DeletionGuard(100, Date.now),
        rowsThere: () => null,
      },
      (landing, write) => write(at(landing.to)),
    )
    carried.checkpoint = at(landing.to)
    return { ...landing, parts }
  } finally {
    await gatherer.end()
  }
}

/** Lands everything up to the source's head; returns how many events that were, and how many parts were cut. */
export async function followToHead(
  from: From,
  to: Session,
  carried: Carried,
  atOnce = 1000,
): Promise<{ events: number; parts: number }> {
  let [events, parts] = [0, 0]
  const began = Date.now()
  for (;;) {
    const landing = await followOnce(from, to, carried, atOnce)
    events += landing.changes
    parts += landing.parts
    const { pendingChanges, completeUpTo } = landing.head
    const complete = completeUpTo !== null && Date.parse(completeUpTo) >= began
    if (complete && pendingChanges === 0 && landing.oldest === null) return { events, parts }
    await from.source.news(100, new AbortController().signal)
  }
}
