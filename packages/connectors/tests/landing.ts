/** Carries tables from a source session into a target session as an engine would, without one. */
import { NetEffectFold } from '@tide/core/apply/net-effect'
import { makePlan, type Lane } from '@tide/core/plan/plan'
import type { Position } from '@tide/core/position/position'
import type { DatasetName } from '@tide/core/records/dataset'
import { firstCheckpoint, workingLane } from '../../engine/src/lanes.ts'
import type { Checkpoint, Session, SourceLane, TargetLane } from '../src/contract.ts'

export interface Carried {
  lanes: Lane[]
  source: SourceLane[]
  target: TargetLane[]
  checkpoint: Checkpoint
}

export const FOLLOWER = 'conformance'

/** Plans, captures and prepares. */
export async function begin(
  from: Session,
  to: Session,
  tables: DatasetName[],
  targetSchema: string,
): Promise<Carried> {
  const [source, target] = [await from.catalogue(), await to.catalogue()]
  const plan = makePlan({
    tables,
    targetSchema,
    source: source.datasets,
    target: target.datasets,
    targetSchemas: target.schemas,
    profile: to.target!.profile,
    claims: [],
    own: [],
  })
  const refused = plan.notes.filter(note => note.level === 'refused')
  if (refused.length > 0) throw new Error(refused.map(note => note.message).join('\n'))
  const position = await from.source!.startCapture(FOLLOWER, tables)
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

export async function copyAll(from: Session, to: Session, carried: Carried): Promise<void> {
  for (const [i, lane] of carried.source.entries()) {
    for await (const batch of from.source!.copy(lane, null, new AbortController().signal)) {
      await to.target!.load(carried.target[i]!, batch, carried.checkpoint)
    }
  }
}

/** Lands everything up to the source's head; returns how many events that were, and how many parts were cut. */
export async function followToHead(
  from: Session,
  to: Session,
  carried: Carried,
  atOnce = 1000,
): Promise<{ events: number; parts: number }> {
  let [events, parts] = [0, 0]
  for (;;) {
    let batch = await from.source!.read(FOLLOWER, carried.source, carried.checkpoint.position, atOnce)
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
        await writing.apply(
          [...folds].map(([i, fold]) => ({ lane: carried.target[i]!, effect: fold.result() })),
        )
        if (batch.complete) break
        parts++
        batch = await from.source!.read(FOLLOWER, carried.source, batch.to, atOnce)
        position = batch.to
      }
      carried.checkpoint = { ...carried.checkpoint, position }
      await writing.commit(carried.checkpoint)
    } else carried.checkpoint = { ...carried.checkpoint, position }
    if (batch.head.pendingChanges === 0 && batch.transactions.length === 0) return { events, parts }
  }
}
