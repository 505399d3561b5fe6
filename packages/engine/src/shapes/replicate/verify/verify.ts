/** Verifications of a pipeline's lanes, carried out beside its following. */
import type { Session } from '@tide/connectors/contract/session'
import {
  agrees,
  NOTHING_VERIFIED,
  differing,
  type AskedLane,
  type LaneVerified,
} from '@tide/core/definition/verification'
import { asFailure, Failure } from '@tide/core/failure'
import { printName } from '@tide/core/records/dataset'
import type { Key } from '@tide/core/records/value'
import type { Shaping } from '@tide/core/shape/written'
import { orderedComparison } from '@tide/core/verify/ordered-comparison'
import { sameBytes } from '../../../same-bytes.ts'
import type { ReplicationRun } from '../../shape.ts'
import type { WorkingLane } from '../lanes.ts'
import type { OpenPipeline } from '../open.ts'
import { countBoth } from './counts.ts'
import { BUCKETS, counted, MOST_DIFFERENCES, settle, type Question } from './settle.ts'
import { LaneSides } from './sides.ts'
import { Ended, LaneWork } from './work.ts'

/** So many rows in question are looked at again together, and so many may wait for that before reading waits, too. */
const TOGETHER = 1_000
const MOST_WAITING = 10_000
/** So many rows can be in question in all. */
const MOST_QUESTIONS = 1_000_000

export class Verifying {
  private readonly run: ReplicationRun
  private readonly open: OpenPipeline
  private readonly sessions: { from: Session; to: Session }
  private readonly shaping: Shaping
  private readonly over = new AbortController()
  private going: Promise<void> | undefined
  private again = false
  /** Why a lane of what is done now could not be verified. */
  private failed: string | undefined

  constructor(
    run: ReplicationRun,
    open: OpenPipeline,
    sessions: { from: Session; to: Session },
    shaping: Shaping,
  ) {
    this.run = run
    this.open = open
    this.sessions = sessions
    this.shaping = shaping
  }

  /** There may be something to do. */
  look(): void {
    this.again = true
    this.going ??= this.work().finally(() => (this.going = undefined))
  }

  async end(): Promise<void> {
    this.over.abort()
    await this.going
  }

  private async work(): Promise<void> {
    const { signal } = this.over
    const { verifications } = this.run.parts
    while (this.again && !signal.aborted) {
      this.again = false
      // Where the store is away, it is looked at again with the next that is asked, or after a restart.
      const asked = await verifications.asked(this.run.record.id).catch(() => [])
      for (const one of asked) {
        if (signal.aborted) return
        this.run.runs.going('verify')
        await this.verify(one).catch(() => {})
      }
      const { failed } = this
      this.failed = undefined
      await this.run.runs.end('verify', failed === undefined ? 'done' : 'failed', failed ?? null)
    }
  }

  /** For the account; rows are read on both sides. */
  private account(lane: WorkingLane, { atSource, atTarget, beganAt }: LaneVerified): void {
    const { runs, parts } = this.run
    const rows = Math.max(atSource ?? 0, atTarget ?? 0)
    const began = beganAt ?? new Date(parts.surroundings.now()).toISOString()
    const batch = { rows, bytes: 0, inserted: 0, updated: 0, deleted: 0, truncated: 0, beganAt: began }
    runs.batch('verify', printName(lane.plan.source), 'full', batch)
    runs.count('verify', { reads: atSource ?? 0 })
  }

  private async verify(asked: AskedLane): Promise<void> {
    const { verifications, surroundings } = this.run.parts
    const { id } = this.run.record
    const iso = () => new Date(surroundings.now()).toISOString()
    const lane = this.open.lanes[asked.index]
    const work = new LaneWork(this.run, this.open, asked, lane, this.over.signal)
    await verifications.begin(id, asked)
    try {
      if (!lane) throw new Failure('refused', 'The lane is not there any more.', 'Verify what is there now.')
      await work.tell({ ...NOTHING_VERIFIED, state: 'reading', level: asked.level, beganAt: iso() })
      await work.isCopied()
      const byCounts = asked.level === 'counts' && countsSay(lane)
      if (byCounts) await countBoth(work, this.sessions, lane)
      else await byRows(work, new LaneSides(lane, this.shaping, this.sessions, iso))
      const { position, completeUpTo } = this.open.checkpoint.now
      await work.tell({
        ...work.verified,
        state: 'done',
        waits: null,
        position,
        completeUpTo,
        endedAt: iso(),
      })
      this.account(lane, work.verified)
      await this.run.log(...said(lane, work.verified), { lanes: [printName(lane.plan.source)] })
    } catch (thrown) {
      // Ended, it stands in the store as that. When the run is over, whoever takes the pipeline next begins it anew.
      if (thrown instanceof Ended || this.over.signal.aborted) return
      const { message, remedy } = asFailure(thrown)
      this.failed = message
      await work.tell({
        ...work.verified,
        state: 'failed',
        waits: null,
        endedAt: iso(),
        problem: { message, remedy },
      })
      const lanes = lane ? [printName(lane.plan.source)] : []
      await this.run.log('warning', `A verification failed: ${message}`, { remedy, lanes })
    }
  }
}

async function byRows(work: LaneWork, sides: LaneSides): Promise<void> {
  const { open, signal } = work
  const expected = open.rowsThere(sides.lane) ?? sides.lane.plan.rows
  const strip = { rows: Math.max(1, Math.ceil(expected / BUCKETS)), differences: [] }
  await work.tell({ ...work.verified, level: 'rows', atSource: 0, atTarget: 0, strip })
  const waiting: Question[] = []
  let settling: Promise<void> | undefined
  let failed: { thrown: unknown } | undefined
  const settleSome = async () => {
    while (waiting.length >= TOGETHER || (waiting.length > 0 && work.verified.state === 'settling')) {
      const some = waiting.splice(0, TOGETHER)
      if (differing(work.verified) >= MOST_DIFFERENCES) {
        work.verified = { ...work.verified, unsettled: work.verified.unsettled + some.length }
        continue
      }
      const settled = await settle(some, sides, open, clock => work.landed(clock))
      await work.keep(settled.found)
      work.verified = counted(work.verified, settled)
    }
  }
  const settleBeside = () => {
    settling ??= settleSome()
      .catch((thrown: unknown) => void (failed = { thrown }))
      .finally(() => (settling = undefined))
    return settling
  }
  // Where one side has a row earlier than the other, both are in question.
  const known = new Set<string>()
  const ask = (key: Key, at: number) => {
    const id = sides.keyId(key)
    if (known.has(id)) return
    if (known.size === MOST_QUESTIONS) throw tooMany(sides)
    known.add(id)
    waiting.push({ key, at })
  }
  const comparing = orderedComparison(
    sides.sourceLines(signal),
    sides.targetLines(signal),
    sides.verified,
    sameBytes,
  )
  for await (const { atSource, atTarget, equal, questions } of comparing) {
    if (failed) throw failed.thrown
    const before = work.verified.atSource ?? 0
    for (const { key, after } of questions) ask(key, before + after)
    for (const key of sides.takeUnmade()) ask(key, before)
    const { verified } = work
    await work.went({
      ...verified,
      atSource: (verified.atSource ?? 0) + atSource,
      atTarget: (verified.atTarget ?? 0) + atTarget,
      equal: verified.equal + equal,
    })
    if (waiting.length >= TOGETHER) {
      const beside = settleBeside()
      if (waiting.length > MOST_WAITING) await beside
    }
  }
  await settling
  if (failed) throw failed.thrown
  await work.tell({ ...work.verified, state: 'settling' })
  await settleBeside()
  if (failed) throw (failed as { thrown: unknown }).thrown
  work.verified = asSettled(work.verified)
}

/** Rows that moved while they were read are counted as they were in the end, where both sides agree. */
function asSettled(verified: LaneVerified): LaneVerified {
  const { equal } = verified
  return agrees({ ...verified, state: 'done' }) ? { ...verified, atSource: equal, atTarget: equal } : verified
}

function tooMany({ verified: { lane } }: LaneSides): Failure {
  return new Failure(
    'refused',
    `More than ${MOST_QUESTIONS.toLocaleString('en')} rows of ${printName(lane.target)} are not the same on both sides.`,
    'Copy the table again.',
  )
}

/** Whether the numbers of rows are to be the same. */
function countsSay({ plan, shaper }: WorkingLane): boolean {
  return plan.scope === null && plan.there !== 'add' && !shaper.keepsDeleted
}

function said({ plan }: WorkingLane, verified: LaneVerified): ['info' | 'warning', string] {
  const n = (rows: number | null) => (rows === null ? 'an unknown number of' : rows.toLocaleString('en'))
  const table = printName(plan.target)
  const { level, atSource, atTarget, equal, inMotion, held } = verified
  if (level === 'counts')
    return [
      agrees(verified) === true ? 'info' : 'warning',
      `Counted ${table}: ${n(atSource)} rows at the source, ${n(atTarget)} at the target.`,
    ]
  const found = differing(verified)
  const more = [
    ...(held > 0 ? [`${n(held)} are held`] : []),
    ...(inMotion > 0 ? [`${n(inMotion)} in motion`] : []),
  ]
  const what = [`${n(equal)} rows are equal`, `${found === 0 ? 'none' : n(found)} differ`, ...more].join(', ')
  return [found + held > 0 ? 'warning' : 'info', `Verified ${table}: ${what}.`]
}
