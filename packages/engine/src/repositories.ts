/** What the engine asks of the store, and of whoever opens connections. */
import type { Connector, Session } from '@tide/connectors/contract/session'
import type { Webhook } from '@tide/core/definition/webhook'
import type { PipelineState } from '@tide/core/definition/definition'
import type { Errand } from '@tide/core/definition/errand'
import type { LogEntry } from '@tide/core/definition/log'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { TwoWayTrail } from '@tide/core/api/two-way'
import type { SavedQuery } from '@tide/core/api/queries'
import type {
  ChangedPlan,
  EngineRecord,
  PipelineRecord,
  PipelineWork,
  StartedPlan,
  StopReason,
  Affinity,
} from '@tide/core/definition/pipeline'
import type { Held, HeldRecord, HeldState } from '@tide/core/definition/held'
import type { SavedPosition } from '@tide/core/definition/saved-position'
import type {
  AskedLane,
  AskedVerification,
  Difference,
  KeptDifference,
  LaneVerified,
  RepairDeed,
} from '@tide/core/definition/verification'
import type { RunRecord } from '@tide/core/definition/run'
import type { LaneReading } from '@tide/core/pace/lane-reading'
import type { TideSample } from '@tide/core/pace/tide'
import type { Key } from '@tide/core/records/value'
import type { Side } from '@tide/core/merge/rule'
import type { LaneProgress, PairCommit, PairTotals } from '@tide/core/two-way/commit'
import type { TwoWayIntent } from '@tide/core/two-way/intent'
import type { Pair } from '@tide/core/two-way/pair'
import type { KeptPart, RestorePoint } from '@tide/core/two-way/restore'

export interface PipelineRepository {
  list(): Promise<PipelineRecord[]>
  get(id: string): Promise<PipelineRecord | undefined>
  /** False when it runs already, or its definition is another one by now. */
  start(id: string, plan: StartedPlan, startedAt: string, affinity: Affinity | null): Promise<boolean>
  own(id: string, plan: StartedPlan): Promise<boolean>
  startOrigins(
    id: string,
    plan: StartedPlan,
    startedAt: string,
    ties: readonly (Affinity | null)[],
    newId: () => string,
  ): Promise<boolean>
  startAgain(id: string, startedAt: string, affinity: Affinity | null): Promise<boolean>
  /**
   * Another plan for a pipeline that runs the plan of this number, with what has to be done for it. False when it runs another
   * one by now.
   */
  change(
    id: string,
    from: number,
    plan: ChangedPlan,
    at: string,
    ties: readonly (Affinity | null)[],
    newId: () => string,
  ): Promise<boolean>
  /** What the plan of this number asked for is done. */
  changed(id: string, plan: number): Promise<void>
  /** It can only be run where this data folder is, from now on. */
  bind(id: string, affinity: Affinity): Promise<void>
  /** The log of a pipeline and of its origins tells details until then; null: no more. */
  tellDetails(id: string, until: string | null): Promise<void>
  want(id: string, wanted: PipelineRecord['wanted']): Promise<void>
  takeUp(id: string, wanted: 'run' | 'stop'): Promise<void>
  /** False when another engine runs it by now. */
  setState(id: string, holder: string, state: PipelineState, reason: StopReason | null): Promise<boolean>
  /** `undefined` when another engine runs it by now. */
  takeEpoch(id: string, holder: string): Promise<number | undefined>
}

/** What people ask of running pipelines. */
export interface ErrandRepository {
  ask(errand: Omit<Errand, 'state' | 'outcome' | 'endedAt'>): Promise<void>
  /** Those that are not over, in the order in which they were asked. */
  waiting(pipeline: string): Promise<Errand[]>
  /** False when another engine runs the pipeline by now. */
  begin(id: string, holder: string, at: string): Promise<boolean>
  end(
    id: string,
    end: Pick<Errand, 'outcome'> & { state: 'done' | 'refused'; endedAt: string },
  ): Promise<void>
}

/** Where pipelines stood at moments that people may want to go back to. */
export interface PositionRepository {
  keep(position: Omit<SavedPosition, 'id'>): Promise<void>
}

/** Rows that targets would not take. */
export interface HeldRepository {
  /** Keeping one again changes nothing. */
  keep(records: readonly Held[]): Promise<void>
  /** Keys of which the target has another row than it should. */
  differing(pipeline: string): Promise<Pick<HeldRecord, 'table' | 'identity' | 'state' | 'heldAt'>[]>
  get(pipeline: string, ids: readonly number[]): Promise<HeldRecord[]>
  /**
   * Closes all that are open of these keys of a table, or of all its keys. Of those that were dropped only the difference ends,
   * for which `dropped` is no end.
   */
  settle(
    pipeline: string,
    table: string,
    keys: readonly Key[] | 'all',
    end: { state: Exclude<HeldState, 'open'>; at: string; note?: string },
  ): Promise<void>
  /** Forgets those that were closed before a time, and whose rows are as they should be. */
  trim(before: string): Promise<void>
}

/** What is to be held against its source, and what has come of it. */
export interface VerificationRepository {
  ask(verification: AskedVerification): Promise<void>
  /** Lanes of a run that are asked for and not over, in the order in which they were asked. */
  asked(run: string): Promise<AskedLane[]>
  /** False: a person has ended it. */
  tell(run: string, lane: AskedLane, verified: LaneVerified): Promise<boolean>
  /** Forgets what was found of the lane when it was looked at before. */
  begin(run: string, lane: AskedLane): Promise<void>
  keep(run: string, lane: AskedLane, differences: readonly Difference[]): Promise<void>
  /** Those that are to be repaired and are not yet; all of the lane where none is named. */
  toRepair(run: string, deed: RepairDeed): Promise<KeptDifference[]>
  repaired(ids: readonly number[], at: string): Promise<void>
}

/** Who runs what, where several engines share one store. */
export interface LeaseRepository {
  begin(engine: Pick<EngineRecord, 'id' | 'name' | 'home'>): Promise<void>
  beat(engine: Pick<EngineRecord, 'id' | 'name' | 'home'>): Promise<void>
  work(): Promise<PipelineWork[]>
  take(id: string, holder: string): Promise<boolean>
  release(ids: readonly string[], holder: string): Promise<void>
  leave(id: string): Promise<void>
  engines(): Promise<EngineRecord[]>
  forgetGone(): Promise<void>
  tell(statuses: readonly PipelineStatus[]): Promise<void>
  told(ids: readonly string[]): Promise<{ status: PipelineStatus; fresh: boolean }[]>
}

export interface HistoryRepository {
  log(...entries: LogEntry[]): Promise<void>
  /** Forgets lines that nobody looks for any more. */
  trimLog(now: number): Promise<void>
  addFigures(resolution: number, samples: ({ pipeline: string } & TideSample)[]): Promise<void>
  figures(pipeline: string, resolution: number, since: number): Promise<TideSample[]>
  trimFigures(now: number): Promise<void>
  addLaneFigures(readings: (LaneReading & { pipeline: string; resolution: number })[]): Promise<void>
}

/** What pipelines did, from beginning to end. */
export interface RunRepository {
  /** Begins one, or tells how it stands. */
  put(run: RunRecord): Promise<void>
  /** Ends what a pipeline's engine left open when it was killed. */
  cutOff(pipeline: string): Promise<void>
  /** Forgets those that nobody asks for any more. */
  trim(now: number): Promise<void>
}

/** Pairs of two-way pipelines. */
export interface PairRepository {
  lane(pipeline: string, lane: string): Promise<LaneProgress | undefined>
  /** Those of records of a side, by their keys. */
  find(pipeline: string, lane: string, side: Side, keys: readonly string[]): Promise<Pair[]>
  get(pipeline: string, ids: readonly string[]): Promise<Pair[]>
  /** Those that are to be looked at again. */
  waiting(pipeline: string, lane: string): Promise<Pair[]>
  /** Records that take no part so far, each as a pair without another half. */
  strangers(pipeline: string, lane: string): Promise<Pair[]>
  /** Keys of a side, of pairs that are not apart. */
  keys(pipeline: string, lane: string, side: Side): Promise<string[]>
  /** Calls of which it is not known what has become, in the order in which they were begun. */
  intents(pipeline: string): Promise<TwoWayIntent[]>
  totals(pipeline: string): Promise<PairTotals>
  /** What a run has written, or what was written to a pair; the newest first. */
  trail(
    pipeline: string,
    asked: { pair?: string; run?: string; from?: string; to?: string; limit: number },
  ): Promise<TwoWayTrail[]>
  /** All of it or nothing; throws a transient Failure when another engine has the pipeline. */
  commit(pipeline: string, commit: PairCommit): Promise<void>
}

/** Moments to which records of two-way pipelines can be written back. */
export interface RestorePointRepository {
  /** The newest first. */
  list(pipeline: string): Promise<RestorePoint[]>
  /** Whole or not at all; the oldest of more than `most` go. */
  keep(
    pipeline: string,
    point: Pick<RestorePoint, 'id' | 'at' | 'why' | 'digests'>,
    parts: AsyncIterable<KeptPart>,
    most: number,
  ): Promise<void>
  /** In the order in which they were kept, some at a time. */
  records(pipeline: string, point: string, of?: { lane: string; side: Side }): AsyncGenerator<KeptPart>
}

/** Addresses that apps call when records have changed. */
export interface WebhookRepository {
  of(pipeline: string): Promise<Webhook[]>
  keep(hook: Webhook): Promise<void>
  forget(ids: readonly string[]): Promise<void>
  /** Where such an address is, as apps reach it; undefined: it is not known yet. */
  urlOf(id: string): string | undefined
}

/** Questions that people have given a name. */
export interface SavedQueries {
  get(id: string): Promise<Pick<SavedQuery, 'name' | 'sql' | 'parameters'> | undefined>
}

/** Opens a connection by its id, secrets included; the caller closes the session. */
export interface ConnectionOpener {
  open(connection: string): Promise<Session>
  /** For people and for the map. */
  describe(connection: string): Promise<{ name: string; connector: Connector } | undefined>
}

/** Time and chance, handed in so that tests can hold them. */
export interface Surroundings {
  now(): number
  random(): number
  /** Resolves after the time or when the signal aborts. */
  sleep(milliseconds: number, signal: AbortSignal): Promise<void>
  newId(): string
}
