/** How a two-way pipeline stands, what a pass of it would do, and its pairs as people look at them. */
import type { AppObject } from '../app/object.ts'
import type { Value } from '../merge/form.ts'
import type { Side } from '../merge/rule.ts'
import type { HeldField, Pair, PairDecision } from '../two-way/pair.ts'
import type { TwoWayNote } from '../two-way/note.ts'
import type { ProposedJoin } from '../two-way/propose.ts'
import type { Undoing } from '../two-way/undoing.ts'
import type { Starter } from '../two-way/starters.ts'

/** What was done on one side. */
export interface SideCounts {
  created: number
  changed: number
  deleted: number
}

export interface TwoWayStatus {
  /** What it does just now. */
  doing: string | null
  /** When the last whole pass began and ended. */
  last: { beganAt: string; endedAt: string } | null
  pairs: number | null
  asleep: number | null
  /** Pairs that wait for a person. */
  held: number | null
  /** Pairs of which something waits for another record. */
  waiting: number | null
  /** Since the engine took it up. */
  done: Record<Side, SideCounts>
}

/** A pair, or a record that has no other half yet, with what is to become of it. */
export interface TwoWayRow {
  does: 'create' | 'change' | 'link' | 'agree' | 'hold' | 'apart'
  a: { id: string; values: Record<string, Value> } | null
  b: { id: string; values: Record<string, Value> } | null
  /** Values that are to be written, by side and field. */
  becomes: Partial<Record<Side, Record<string, Value>>>
  held: HeldField[]
}

/** What a pass of a lane would do, were it the first. */
export interface LaneForeseen {
  lane: string
  records: Record<Side, number>
  /** In scope where they are. */
  inScope: Record<Side, number>
  /** They take part. */
  takingPart: number
  paired: number
  created: Record<Side, number>
  changed: Record<Side, number>
  held: number
  /** By their reason. */
  reasons: { reason: string; remedy: string; records: number }[]
  /** By field pair: on which side something would be written to how many records. */
  writes: Record<string, Record<Side, number>>
  /** By field pair: of how many records that take part the value is less on which side. */
  losses: Record<string, Partial<Record<Side, number>>>
  /** Some of each kind. */
  rows: TwoWayRow[]
  /** Calls to each side for the first pass. */
  calls: Record<Side, number>
  /** What a trial leaves out, and would come in without it. */
  withoutTrial: number
}

export interface TwoWayForeseen {
  lanes: LaneForeseen[]
  /** Records that take part now, and in thirty days at the pace of the last thirty. */
  records: { now: number; later: number | null }
  /** Calls a day that looking for changes takes, and how many each side lets happen; null: it does not say. None of a database. */
  callsADay: Record<Side, { looking: number; sweeping: number; limit: number | null } | null>
  seconds: number
}

/** What can be chosen in the setup. */
export interface TwoWayLook {
  notes: TwoWayNote[]
  objects: Record<Side, AppObject[] | null>
  /** By lane. */
  proposed: ProposedJoin[][]
  /** What is done at a side that is a database, so that it tells changes. */
  captures: Partial<Record<Side, { note: string; statements: string[] }>>
  /** Sides on which places and fields can be made for the records of the other; `schema`: in which a table would be, at a database. */
  makes: Partial<Record<Side, { schema: string | null }>>
  /** Ready-made lanes for these two. */
  starters: Starter[]
}

/** `changedAt`: in milliseconds, as its app says; null: it does not. */
export interface SeenHalf {
  id: string
  values: Record<string, Value>
  changedAt: number | null
}

/** A pair as people look at it. */
export interface PairSeen extends Omit<Pair, 'halves'> {
  /** What people call it. */
  label: string | null
  a: SeenHalf | null
  b: SeenHalf | null
  changedAt: string
}

/** What was done with a field of a pair, and what came of it. */
export interface TwoWayTrail {
  id: number
  at: string
  run: string
  lane: string
  pair: string
  side: Side
  op: 'create' | 'change' | 'delete' | 'apart'
  /** The key of the record that was written. */
  record: string | null
  field: string | null
  was: Value
  became: Value
  why: string
}

/** What a run has written, or what was written from one time to another; ISO 8601. */
export type Undone = { run: string } | { from: string; to: string }

/** What undoing it would do, with the records as they were seen last. */
export interface UndoForeseen {
  /** Records, by what becomes of them. */
  change: number
  delete: number
  create: number
  leave: number
  /** The first so many. */
  rows: { side: Side; record: string | null; label: string | null; undoing: Undoing }[]
}

/** A record as it is kept in a restore point: a line of a file. */
export interface KeptLine {
  id: string
  values: Record<string, Value>
}

/** What people ask of a two-way pipeline. */
export type TwoWayDeed =
  /** A pass at once; `sweep`: and a look at what is gone. */
  | { deed: 'pass'; sweep?: boolean }
  | { deed: 'decide'; pairs: string[]; decision: PairDecision }
  /** What the app has refused is sent again. */
  | { deed: 'try again'; pairs: string[] }
  | { deed: 'take apart'; pairs: string[] }
  /** The inverse of what was written, where nobody has written since. */
  | { deed: 'undo'; of: Undone }
  /** Records of both sides are kept as they are now. */
  | { deed: 'keep' }
  /** What paired records were at a restore point is written back, whoever has written since. */
  | { deed: 'restore'; point: string }
