/** How a pipeline that sends stands, and what a run of it would do or did. */

/** What becomes of a row, or of a record that is no longer in the result. */
export type SendOp = 'create' | 'change' | 'remove'

export interface SendCounts {
  create: number
  change: number
  remove: number
  /** They are as the app accepted them last. */
  unchanged: number
  /** They would be refused, or are held since the app refused them. */
  held: number
  /** They may not happen by what the pipeline may do. */
  left: number
}

export type SendPhase = 'reading' | 'comparing' | 'meeting' | 'sending'

export interface SendProgress {
  phase: SendPhase
  done: number
  /** null: it is not known yet. */
  of: number | null
  perSecond: number
}

/** A run that is over. */
export interface SendRun {
  id: string
  startedAt: string
  endedAt: string
  created: number
  changed: number
  removed: number
  unchanged: number
  refused: number
  /** Why it ended before its end. */
  note: string | null
}

export interface SendStatus {
  progress: SendProgress | null
  last: SendRun | null
  /** Records that stand in the app by us, as it accepted them. */
  sent: number | null
  held: number | null
  /** A run would have done more than the guard lets happen. */
  asks: SendAsks | null
}

export interface SendAsks extends Pick<SendCounts, 'create' | 'change' | 'remove'> {
  at: string
  message: string
}

/** One row of a difference, as people look at it. */
export interface SendRow {
  op: SendOp | 'held' | 'left'
  /** The row key. */
  key: string[]
  /** The record's key in the app; null: there is none yet. */
  id: string | null
  /** By field: as the app accepted it last, and as it is to be. null: there is no such side. */
  was: Record<string, string | null> | null
  values: Record<string, string | null> | null
  field: string | null
  reason: string | null
  remedy: string | null
}

/** What a run would do now. */
export interface SendForeseen {
  counts: SendCounts
  /** Of those that are not sent, by their reason. */
  reasons: { field: string | null; reason: string; remedy: string; rows: number }[]
  /** New rows, by how many records they meet. */
  meets: { none: number; one: number; several: number } | null
  /** What the guard would say. */
  asks: string | null
  /** The first of each kind. */
  rows: SendRow[]
  /** Rows of the result. */
  total: number
  seconds: number
}

/** What was done with a record, and what came of it. */
export interface SendResult {
  run: string
  at: string
  /** `leave out`: somebody has said so. */
  op: SendOp | 'leave out'
  key: string[]
  id: string | null
  was: Record<string, string | null> | null
  values: Record<string, string | null> | null
  /** Why somebody has said so. */
  note: string | null
  /** null: it was accepted. */
  refused: { field: string | null; reason: string } | null
}

/** A record as it was accepted last. */
export interface SentRecord {
  key: string[]
  id: string | null
  values: Record<string, string | null>
  at: string
}

/** What others have made of records that we sent. */
export interface HandEdits {
  /** Records that were sent and found. */
  looked: number
  /** Of those, with other values than we sent. */
  edited: number
  /** Records that were sent and are not there any more. */
  gone: number
  /** `was`: as it is there; `values`: as we sent it. The first of them. */
  rows: SendRow[]
}

/** What people ask of a pipeline that sends. */
export interface SendDeed {
  /**
   * `run`: the differences. `again`: everything, or these keys, whatever was sent before, and whatever was said of them by hand. `try`: one row
   * alone. `undo`: what the last try has done. `pass`: the differences, though the guard asks, so long as they are no more than these. `correct`: one
   * row, with these values in place of those that are made of it, for as long as it says what it says. `leave out`: these rows, for as long.
   */
  deed: 'run' | 'again' | 'try' | 'undo' | 'pass' | 'correct' | 'leave out'
  keys?: string[][]
  values?: Record<string, string | null>
  note?: string
  most?: Pick<SendCounts, 'create' | 'change' | 'remove'>
}

/** What somebody has said of a row, for as long as that says the same. */
export interface SaidByHand {
  key: string[]
  /** null: it is left out. */
  values: Record<string, string | null> | null
  note: string | null
  at: string
}
