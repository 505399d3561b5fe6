/** What the engine asks of the store, and of whoever opens connections. */
import type { Connector, Session } from '@tide/connectors/contract'
import type { PipelineState } from '@tide/core/definition/definition'
import type { LogEntry, PipelineRecord, StopReason } from '@tide/core/definition/pipeline'
import type { TideSample } from '@tide/core/pace/tide'
import type { Lane, PrepareStep } from '@tide/core/plan/plan'

export interface PipelineRepository {
  list(): Promise<PipelineRecord[]>
  get(id: string): Promise<PipelineRecord | undefined>
  start(id: string, plan: { lanes: Lane[]; steps: PrepareStep[] }, startedAt: string): Promise<void>
  want(id: string, wanted: PipelineRecord['wanted']): Promise<void>
  setState(id: string, state: PipelineState, reason: StopReason | null): Promise<void>
  takeEpoch(id: string): Promise<number>
}

export interface HistoryRepository {
  log(entry: LogEntry): Promise<void>
  addFigures(resolution: number, samples: ({ pipeline: string } & TideSample)[]): Promise<void>
  figures(pipeline: string, resolution: number, since: number): Promise<TideSample[]>
  trimFigures(now: number): Promise<void>
  beginRun(entry: {
    id: string
    pipeline: string
    from: string
    to: string
    startedAt: string
  }): Promise<void>
  endRun(id: string, end: { endedAt: string; rows: number; bytes: number }): Promise<void>
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
