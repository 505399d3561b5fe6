/** The engine that runs a pipeline. */
export interface RunBy {
  name: string
  /** It is this very process. */
  here: boolean
  live: boolean
  seenAt: string
  /** What ties the pipeline to it. */
  affinity: string | null
}

export interface EngineInfo {
  id: string
  name: string
  here: boolean
  live: boolean
  startedAt: string
  seenAt: string
  /** How many pipelines it runs. */
  pipelines: number
}
