/** Lands what was gathered: folded by the source's key, shaped once for each, and written with the checkpoint. */
import type { Loss } from '@tide/core/apply/deletion-guard'
import { EventCount, IdentityFold } from '@tide/core/apply/fold'
import { addCounts, type OperationCounts } from '@tide/core/apply/net-effect'
import type { Checkpoint, Stream } from '@tide/core/checkpoint/checkpoint'
import type { Position } from '@tide/core/position/position'
import type { SourceTransaction } from '@tide/core/records/change'
import { printName } from '@tide/core/records/dataset'
import type { Key } from '@tide/core/records/value'
import type { ChangeBatch, SourceHead } from '../../journal/batch.ts'
import type { Gatherer } from './gather.ts'
import type { HeldRow, Holding } from './holding.ts'
import { historyEffects } from './keep-history.ts'
import type { LandingParts } from './landing-parts.ts'
import type { FollowedLane, WorkingLane } from './lanes.ts'
import { NotAll, noteLanded, refusedId, stillLanded, TRIES, type RefusedRows } from './refused.ts'
import { laneOf, Shapes } from './shapes.ts'

const EVENTS_IN_A_TURN = 5_000

/** What has come to the target. */
export interface Landing {
  to: Position
  head: SourceHead
  changes: number
  /** When the oldest and the newest of the changes were committed; `null` when there were none. */
  oldest: string | null
  newest: string | null
  /** By the lanes' indexes in the pipeline. */
  counts: ReadonlyMap<number, OperationCounts>
  /** Some rows were taken as they stand at the source now. */
  fetched: boolean
}

/** Commits what has come in; `write` writes the checkpoint and commits, `counted` has the stream say what is held. */
export type CommitLanding = (
  landing: Landing,
  write: (checkpoint: Checkpoint) => Promise<void>,
  counted: (stream: Stream) => Stream,
) => Promise<void>

/**
 * Reads what comes next in these lanes and lands it with its checkpoint in one transaction of the target. A source
 * transaction that comes in parts lands whole. Without changes nothing is committed; the landing may still be further on.
 * Where the target will not take some of the rows, those are held, and the rest lands.
 */
export async function landOnce(
  gatherer: Gatherer,
  followed: readonly FollowedLane[],
  from: Position,
  parts: LandingParts,
  commit: CommitLanding,
): Promise<Landing> {
  const attempt = new Attempt(gatherer, followed, parts)
  let some: Some | undefined
  for (let tries = 0; ; tries++) {
    try {
      return await attempt.land(from, commit, some)
    } catch (thrown) {
      if (!(thrown instanceof NotAll)) throw thrown
      if (tries === TRIES) throw thrown.cause
      some = await attempt.whatIsRefused(from, some)
    }
  }
}

/** What is known of changes of which not all will go in. */
interface Some {
  refused: RefusedRows
  /** So many of them land, or those of one transaction. */
  events: number
}

class Attempt {
  private readonly gatherer: Gatherer
  private readonly shaping: Shapes
  private readonly parts: LandingParts
  private readonly lanes: readonly WorkingLane[]
  private readonly followed: readonly FollowedLane[]

  constructor(gatherer: Gatherer, followed: readonly FollowedLane[], parts: LandingParts) {
    this.gatherer = gatherer
    this.parts = parts
    this.followed = followed
    this.lanes = followed.map(({ lane }) => lane)
    this.shaping = new Shapes(parts, this.lanes)
  }

  /** `some`: rows that are held, and how much lands without them. Throws NotAll where others are refused. */
  async land(from: Position, commit: CommitLanding, some: Some | undefined): Promise<Landing> {
    const { gatherer, lanes } = this
    const { target, clock, holding, guard } = this.parts
    const refused: RefusedRows = some?.refused ?? new Map()
    let batch = await gatherer.read(from, some?.events)
    const oldest = batch.transactions[0]?.at ?? null
    const counts = new Map<number, OperationCounts>()
    let [changes, newest, fetched] = [0, oldest, false]
    const kept = new Map<string, HeldRow>()
    const landed = new Map<number, Key[] | 'all'>()
    const truncated = new Set<number>()
    const landing = (): Landing => ({
      to: batch.to,
      head: batch.head,
      changes,
      oldest,
      newest,
      counts,
      fetched,
    })
    if (oldest === null) return landing()
    const writing = await target.begin()
    try {
      for (;;) {
        const { transactions } = batch
        const landedAt = clock()
        // The rest of a transaction may be of tables that are not ours.
        newest = transactions.at(-1)?.at ?? newest
        const folds = await foldByLane(lanes, transactions, holding)
        if (!some) gatherer.readBehind(batch)
        const shaped = this.shaping.shaped(merged(folds), landedAt, refused)
        for (const [lane, fold] of folds) {
          counts.set(lane.index, addCounts(counts.get(lane.index), fold.counts))
          if (fold.truncate) truncated.add(lane.index)
        }
        const fetching = [...shaped.fetching]
        for (const { lane, put } of await this.shaping.apply(writing, shaped.effects))
          fetching.push([laneOf(lanes, lane), put.identity])
        const held = [...shaped.held]
        if (fetching.length > 0) {
          const standing = await this.shaping.asTheyStand(fetching, transactions.at(-1)!, landedAt, refused)
          await this.shaping.apply(writing, standing.effects)
          held.push(...standing.held)
          fetched = true
        }
        await writing.apply(historyEffects(this.followed, transactions, landedAt))
        noteLanded(landed, folds, holding, kept)
        for (const row of held) kept.set(refusedId(row.lane, row.state.identity), row)
        changes += transactions.reduce((sum, { events }) => sum + events.length, 0)
        if (some ? batch.complete : !gatherer.takesMore(changes, batch)) break
        const next = await nextBatch(gatherer, batch)
        if (!next) break
        batch = next
      }
      const done = landing()
      const rows = [...kept.values()]
      const ended = stillLanded(landed, rows)
      const losses = this.losses(counts, truncated)
      guard.refuse(losses)
      await holding.keep(rows)
      await commit(
        done,
        checkpoint => writing.commit(checkpoint),
        stream => holding.counted(stream, rows, ended),
      )
      guard.landed(losses)
      await holding.committed(rows, ended)
      return done
    } catch (error) {
      await writing.rollback()
      throw error
    }
  }

  /** By how much the lanes that let rows go become smaller. */
  private losses(counts: Landing['counts'], truncated: ReadonlySet<number>): Loss[] {
    return this.lanes.flatMap((lane): Loss[] => {
      const { index, plan, shaper, changesAlone } = lane
      const own = counts.get(index)
      if (changesAlone || shaper.keepsDeleted || (!own && !truncated.has(index))) return []
      const there = this.parts.rowsThere(lane)
      const { inserted = 0, deleted = 0 } = own ?? {}
      const rows = truncated.has(index) ? (there ?? 0) - inserted : deleted - inserted
      return [{ lane: index, table: printName(plan.target), rows, there }]
    })
  }

  /** Looks for the rows that are refused in what comes next: what is read at once, or all parts of a transaction. */
  async whatIsRefused(from: Position, before: Some | undefined): Promise<Some> {
    const refused: RefusedRows = before?.refused ?? new Map()
    const { clock, holding } = this.parts
    let batch = await this.gatherer.read(from, before?.events)
    const events = batch.transactions.reduce((sum, { events }) => sum + events.length, 0)
    for (;;) {
      const { transactions } = batch
      const folds = await foldByLane(this.lanes, transactions, holding)
      const landedAt = clock()
      const { effects, fetching } = this.shaping.shaped(merged(folds), landedAt, refused, (id, why) =>
        refused.set(id, why),
      )
      const unfilled = await this.shaping.search(effects, refused)
      const more = [...fetching, ...unfilled]
      if (more.length > 0 && transactions.length > 0) {
        const standing = await this.shaping.asTheyStand(
          more,
          transactions.at(-1)!,
          landedAt,
          refused,
          (id, why) => refused.set(id, why),
        )
        await this.shaping.search(standing.effects, refused)
      }
      if (batch.complete) return { refused, events }
      batch = await this.gatherer.read(batch.to)
    }
  }
}

/** `undefined` when it cannot be read, and what came before is whole: that lands first, and then it is said why. */
async function nextBatch(
  gatherer: Gatherer,
  { to, complete }: ChangeBatch,
): Promise<ChangeBatch | undefined> {
  try {
    return await gatherer.read(to)
  } catch (thrown) {
    if (!complete) throw thrown
    return undefined
  }
}

/** Where changes land as they are, their keys are of interest only while rows of them are held. */
function foldOf(lane: WorkingLane, holding: Holding): EventCount {
  const { identityIndexes, shaper, changesAlone } = lane
  if (changesAlone && !holding.holdsAny(lane)) return new EventCount()
  return new IdentityFold(identityIndexes, shaper.keyIsIdentity ? undefined : shaper.keyBeyond)
}

/** Those of which more lands than every change. */
function merged(folds: ReadonlyMap<WorkingLane, EventCount>): ReadonlyMap<WorkingLane, EventCount> {
  const some = [...folds].filter(([{ changesAlone }]) => !changesAlone)
  return some.length === folds.size ? folds : new Map(some)
}

/** In between, others get their turn: a large batch would hold the process up for longer than anybody should wait. */
async function foldByLane(
  lanes: readonly WorkingLane[],
  transactions: readonly SourceTransaction[],
  holding: Holding,
): Promise<Map<WorkingLane, EventCount>> {
  const folds = new Array<EventCount | undefined>(lanes.length)
  let sinceTurn = 0
  for (const transaction of transactions) {
    for (const event of transaction.events) {
      const fold = (folds[event.lane] ??= foldOf(lanes[event.lane]!, holding))
      fold.add(event, transaction)
      if (++sinceTurn < EVENTS_IN_A_TURN) continue
      sinceTurn = 0
      await new Promise(resolve => setImmediate(resolve))
    }
  }
  return new Map(lanes.flatMap((lane, i) => (folds[i] ? [[lane, folds[i]]] : [])))
}
