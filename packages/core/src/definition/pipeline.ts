import type { FailureKind } from '../failure.ts'
import type { LaneChange, PlanChange } from '../plan/change.ts'
import type { Lane } from '../plan/lane.ts'
import type { PrepareStep } from '../plan/steps.ts'
import type { Definition, PipelineState, ReplicateDefinition } from './definition.ts'

/** Why a pipeline stopped, in words; `person` when somebody wanted it so. */
export interface StopReason {
  kind: FailureKind | 'person'
  message: string
  remedy: string
  at: string
}

/** A pipeline as it is kept. One with several origins has a record for each of them, which engines run like pipelines. */
export interface PipelineRecord {
  id: string
  /** Of an origin: the pipeline that it belongs to. */
  of: string | null
  /** Of an origin: its tag; else empty. */
  origin: string
  /** Once it was started; none where there is one source. */
  origins: PipelineRecord[]
  definition: Definition
  state: PipelineState
  /** What its people want of it; the engine works towards that. */
  wanted: 'run' | 'pause' | 'stop'
  reason: StopReason | null
  /** Raised whenever an engine takes the pipeline. */
  epoch: number
  /** A checkpoint of an earlier epoch belongs to an earlier start and is not continued. */
  freshFrom: number
  /** The plan as it was started. */
  lanes: Lane[]
  steps: PrepareStep[]
  startedAt: string | null
  /** Raised with every change of the plan while it runs. */
  plan: number
  /** What is still to be done for the last of them. */
  change: PendingChange | null
  /** The engine process that runs it, or ran it last. */
  holder: string | null
  /** The data folder that it is tied to; null when any engine may run it. */
  home: string | null
  /** What ties it there, in words. */
  affinity: string | null
  /** Until then, its log tells details. */
  detailedUntil: string | null
}

/** One that replicates. */
export type ReplicationRecord = PipelineRecord & { definition: ReplicateDefinition }

/** What makes tables and checkpoint as the plan says; done once, in one transaction of the target. */
export interface PendingChange {
  /** For each lane: which one it was, null for a new one; whether it is copied again, or over what is there. */
  lanes: { was: number | null; again: boolean; over?: true }[]
  steps: PrepareStep[]
  /** The steps are another origin's to do; this one waits for them. */
  after?: string
}

/** What engines run of a pipeline: its origins, or itself. */
export function runsOf(record: PipelineRecord): PipelineRecord[] {
  return record.origins.length > 0 ? record.origins : [record]
}

/** The one connection that is read from. Of what engines run there is no more than one. */
export function sourceOf({ id, definition: { from } }: Pick<PipelineRecord, 'id' | 'definition'>): string {
  if (typeof from !== 'string') throw new Error(`${id} has several origins, and cannot be run as one`)
  return from
}

/** Of whom a lane is, and its place among theirs; undefined where there is no such lane. */
export function laneOf(
  record: PipelineRecord,
  index: number,
): { run: PipelineRecord; lane: Lane; index: number } | undefined {
  const lane = record.lanes[index]
  const run = lane && runsOf(record).find(({ origin }) => origin === (lane.origin ?? ''))
  if (!run) return undefined
  const before = record.lanes.slice(0, index).filter(({ origin }) => origin === lane.origin)
  return { run, lane, index: before.length }
}

/** How a pipeline stands by how its origins do: as the one that is the least far, of those that have not stopped. */
export function stateOfOrigins(states: readonly PipelineState[]): PipelineState {
  const order: PipelineState[] = ['Copying', 'Following', 'Paused', 'Stopped', 'Finished']
  return order.find(state => states.includes(state)) ?? states[0]!
}

/** A change of a plan as the records that engines run have to carry it out: of the pipeline itself, or of each origin. */
export function pendingOf(
  { lanes: running }: Pick<PipelineRecord, 'lanes'>,
  lanes: readonly Lane[],
  change: readonly LaneChange[],
  origin: string,
): PendingChange['lanes'] {
  const isOwn = (lane: Lane) => (lane.origin ?? '') === origin
  const places = new Map(
    [...running.keys()].filter(place => isOwn(running[place]!)).map((place, i) => [place, i]),
  )
  return change.flatMap(({ was, fate }, i) =>
    isOwn(lanes[i]!)
      ? [
          {
            was: was === null ? null : places.get(was)!,
            again: fate === 'copied again',
            ...(fate === 'filled' ? { over: true as const } : {}),
          },
        ]
      : [],
  )
}

/** What is started: a plan, and the definition that it was made of. */
export type StartedPlan = Pick<PipelineRecord, 'definition' | 'lanes' | 'steps'>

/** A plan that a pipeline is to run from now on, and how it comes there from the one that it runs. */
export interface ChangedPlan extends StartedPlan {
  change: PlanChange
}

/** What ties a pipeline to one data folder. */
export interface Affinity {
  home: string
  affinity: string
}

/** What an engine must know of a pipeline to see whether there is anything to do. */
export interface PipelineWork extends Pick<
  PipelineRecord,
  'id' | 'state' | 'wanted' | 'holder' | 'home' | 'detailedUntil'
> {
  /** Ids of errands that are not over. */
  errands: string[]
  /** The number of its plan. */
  plan: number
  /** There is a reason for its stop. */
  hasReason: boolean
  /** Nobody's lease on it is in force. */
  free: boolean
}

/** A process that runs pipelines. `home` is the id of its data folder. */
export interface EngineRecord {
  id: string
  name: string
  home: string
  startedAt: string
  seenAt: string
  /** It was seen within the time of a lease. */
  live: boolean
}
