/** What happened, for people. */

/** From the least to the most: `detail` is told only while somebody wants it; `error`: it has stopped. */
export const LOG_LEVELS = ['detail', 'info', 'warning', 'error'] as const

export type LogLevel = (typeof LOG_LEVELS)[number]

export interface LogLine {
  id: number
  at: string
  level: LogLevel
  pipeline: string | null
  /** What it is about, by the names of their tables at the source; empty: the whole pipeline. */
  lanes: string[]
  message: string
  remedy: string | null
  byPerson: boolean
}

/** A log line before it is kept; without a time it is of now. */
export type LogEntry = Pick<LogLine, 'level' | 'pipeline' | 'message'> &
  Partial<Pick<LogLine, 'at' | 'lanes' | 'remedy' | 'byPerson'>>

/** What is looked for in the log. */
export interface LogQuery {
  pipeline?: string
  /** The name of a table at the source. */
  lane?: string
  /** This or more. */
  level?: LogLevel
  /** Somewhere in what it says, in whatever case. */
  text?: string
  /** ISO 8601; from the first on, before the second. */
  since?: string
  until?: string
}
