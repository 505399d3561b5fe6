/**
 * What a pipeline does, by its shape: a folder each beside this file. What all pipelines have in common is the runner's:
 * leases and epochs, what is wanted, turning to it, retry, waits, errands, log and readings.
 */
import type { Patience } from '@tide/connectors/contract/source'
import type { PipelineStatus, ShapeStatus } from '@tide/core/api/pipelines'
import type { Errand } from '@tide/core/definition/errand'
import type { PipelineState } from '@tide/core/definition/definition'
import type { LogEntry, LogLevel } from '@tide/core/definition/log'
import type { SendDefinition } from '@tide/core/definition/send'
import type { TwoWayDefinition } from '@tide/core/definition/two-way'
import type { SavedPosition } from '@tide/core/definition/saved-position'
import type { PipelineRecord, ReplicationRecord } from '@tide/core/definition/pipeline'
import type { Meter } from '../meter.ts'
import type { EngineParts } from '../parts.ts'
import type { Runs } from '../runs.ts'

/** What a line of the log says beside its message. */
export type LogMore = Partial<Pick<LogEntry, 'remedy' | 'lanes'>>

/** What a run offers to the shape of its pipeline. */
export interface Run {
  record: PipelineRecord
  parts: EngineParts
  meter: Meter
  /** What it does, from beginning to end, for the account. */
  readonly runs: Runs
  /** Aborted as soon as something else is wanted. */
  readonly turned: AbortSignal
  /** The engine ends; another takes up what this one leaves. */
  readonly ending: boolean
  readonly state: PipelineState
  /** Turns to what is wanted now. */
  turn(): void
  setState(state: PipelineState): Promise<void>
  /** Notes where it stands, for those who want to go back to it. */
  keepPosition(kind: SavedPosition['kind'], note?: string): Promise<void>
  log(level: Exclude<LogLevel, 'detail'>, message: string, more?: LogMore): Promise<void>
  /** Logged only while somebody wants details; `lanes`: what it is about, by the names of their tables at the source. */
  detail(told: () => { message: string; lanes?: string[] }): void
  /** What was tried again has gone through. */
  succeeded(): void
  /** What `work` waits for is shown for as long as it waits, and until something else is wanted. */
  patiently<T>(work: (patience: Patience) => Promise<T>): Promise<T>
}

/** A run of a pipeline that replicates. */
export interface ReplicationRun extends Run {
  record: ReplicationRecord
}

/** A run of a pipeline that sends. */
export interface SendingRun extends Run {
  record: PipelineRecord & { definition: SendDefinition }
}

/** A run of a pipeline that keeps two places in step. */
export interface TwoWayRun extends Run {
  record: PipelineRecord & { definition: TwoWayDefinition }
}

/** One pipeline of a shape, for the life of a run. */
export interface ShapeRun {
  readonly status: ShapeStatus
  /** It is known how far it has come, so that readings mean something. */
  readonly measures: boolean
  /** Where it stands, once that is known. */
  readonly standing: Pick<SavedPosition, 'position' | 'completeUpTo'> | undefined
  /** What is being tried again on its behalf, while it follows. */
  readonly retry: PipelineStatus['retry']
  /** A record may have changed, where its changes are asked for now and then. */
  nudge?(): void
  /** Opens both sides and takes the pipeline over under this epoch. */
  open(epoch: number): Promise<OpenRun>
}

/** One that is open. */
export interface OpenRun {
  /** Makes what is not there yet, and goes on from where it stands. */
  begin(): Promise<void>
  /** Carries out what somebody has asked; returns what came of it, in words. */
  errand(errand: Errand): Promise<string>
  /** Does the next piece of what there is to do, until it is done or the signal aborts. When there is no more: what was done, in words. */
  step(signal: AbortSignal): Promise<string | undefined>
  /** Stands still, but goes on measuring, until the signal aborts. */
  rest(signal: AbortSignal): Promise<void>
  /** Takes off the systems what was put there, but for the data; returns what was done, in words. */
  dismantle(): Promise<string>
  close(): Promise<void>
}
