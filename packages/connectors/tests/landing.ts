/** Carries tables from a source session into a target session as an engine would, without one. */
import { NetEffectFold } from '@tide/core/apply/net-effect'
import { makePlan, type Lane } from '@tide/core/plan/plan'
import type { Position } from '@tide/core/position/position'
import type { DatasetName } from '@tide/core/records/dataset'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { setTimeout as sleep } from 'node:timers/promises'
import { firstCheckpoint } from '../../engine/src/checkpoint.ts'
import { JournalKeeper } from '../../engine/src/journal/keeper.ts'
import { JournaledSource } from '../../engine/src/journal/source.ts'
import { workingLane } from '../../engine/src/lanes.ts'
import type { Surroundings } from '../../engine/src/repositories.ts'
import type { Checkpoint, CommitLoad, Session, SourceLane, SourceSide, TargetLane } from '../src/contract.ts'

export const surroundings: Surroundings = {
  now: Date.now,
  random: () => 0.5,
  sleep: (milliseconds, signal) => sleep(milliseconds, undefined, { signal }).catch(() => {}),
  newId: () => 'test',
}

/** A source as an engine would use it: one with a log through a journal in a folder of its own. */
export interface From {
  session: Session
  source: SourceSide
  /** Stops reading the log until it is read from again. */
  pause?(): Promise<void>
  close(): Promise<void>
}

export async function openFrom(open: () => Promise<Session>): Promise<From> {
  const session = await open()
  if (session.source) return { session, source: session.source, close: () => session.close() }
  const folder = mkdtempSync(join(tmpdir(), 'constant-tide-journal-'))
  const keeper = new JournalKeeper(join(folder, 'journal'), 'conformance', open, surroundings)
  const source = new JournaledSource(keeper, session.log!)
  return {
    session,
    source,
    pause: async () => {
      await source.close()
      await keeper.close()
    },
    close: async () => {
      await source.close()
      await keeper.close()
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
  source: SourceLane[]
  target: TargetLane[]
  checkpoint: Checkpoint
}

export const FOLLOWER = 'conformance'

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
    sameKind,
    source: source.datasets,
    target: target.datasets,
    targetSchemas: target.schemas,
    profile: to.target!.profile,
    claims: [],
    own: [],
  })
  const refused = plan.notes.filter(note => note.level === 'refused')
  if (refused.length > 0) throw new Error(refused.map(note => note.message).join('\n'))
  const position = await from.source.startCapture(FOLLOWER, tables)
  const checkpoint = firstCheckpoint(FOLLOWER, 1, position, plan.lanes, 0)
  await to.target!.prepare(plan.steps, checkpoint)
  const working = plan.lanes.map(workingLane)
  return {
    lanes: plan.lanes,
    source: working.map(({ source }) => source),
    target: working.map(({ target }) => target),
    checkpoint,
  }
}

export async function copyAll(from: From, to: Session, carried: Carried): Promise<void> {
  const view = await from.source.view(FOLLOWER)
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
    let batch = await from.source.read(FOLLOWER, carried.source, carried.checkpoint.position, atOnce)
    let position: Position = batch.to
    if (batch.transactions.length > 0) {
      const writing = await to.target!.begin()
      for (;;) {
        const folds = new Map<number, NetEffectFold>()
        for (const event of batch.transactions.flatMap(transaction => transaction.events)) {
          const { key, columns } = carried.source[event.lane]!
          const fold =
            folds.get(event.lane) ??
            new NetEffectFold(key.map(name => columns.findIndex(column => column.source === name)))
          folds.set(event.lane, fold)
          fold.add(event)
          events++
        }
        const unfilled = await writing.apply(
          [...folds].map(([i, fold]) => ({ lane: carried.target[i]!, effect: fold.result() })),
        )
        if (unfilled.length > 0) throw new Error('rows could not be filled')
        if (batch.complete) break
        parts++
        batch = await from.source.read(FOLLOWER, carried.source, batch.to, atOnce)
        position = batch.to
      }
      carried.checkpoint = { ...carried.checkpoint, position }
      await writing.commit(carried.checkpoint)
    } else carried.checkpoint = { ...carried.checkpoint, position }
    const { pendingChanges, completeUpTo } = batch.head
    const complete = completeUpTo !== null && Date.parse(completeUpTo) >= began
    if (complete && pendingChanges === 0 && batch.transactions.length === 0) return { events, parts }
    await from.source.news?.(100, new AbortController().signal)
  }
}
