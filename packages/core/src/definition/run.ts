/** What a pipeline did from a beginning to an end, with what that moved and what it cost. */

export const RUN_KINDS = [
  'copy',
  'follow',
  'verify',
  'repair',
  'rewind',
  'archive',
  'send',
  'two-way',
] as const

export type RunKind = (typeof RUN_KINDS)[number]

/**
 * `ended`: by a pause, a stop or the end of a day. `failed`: the pipeline stopped because of it. `cut off`: its process was
 * killed, and it is known as it was seconds before.
 */
export type RunState = 'going' | 'done' | 'ended' | 'failed' | 'cut off'

/** What a run did in one lane. */
export interface RunLane {
  /** Its table at the source. */
  table: string
  /** `full`: rows of the whole table; `changes`: rows that had changed. */
  mode: 'full' | 'changes'
  rows: number
  bytes: number
  inserted: number
  updated: number
  deleted: number
  truncated: number
  /** Transactions at the target. */
  batches: number
  /** From the beginning of the first to the end of the last of them; ISO 8601. */
  startedAt: string
  endedAt: string
}

export interface RunRecord {
  id: string
  pipeline: string
  kind: RunKind
  state: RunState
  from: string
  to: string
  /** ISO 8601. */
  startedAt: string
  endedAt: string | null
  /** Rows copied, changes landed, rows compared, or rows repaired. */
  rows: number
  bytes: number
  /** Rows that the source was asked for, beside what its log tells. */
  reads: number
  /** Transactions at the target. */
  writes: number
  /** How often something was tried again. */
  retries: number
  /** Rows that were held back. */
  held: number
  lanes: RunLane[]
  /** What is to be said of it, such as why it failed. */
  note: string | null
}

/** What a batch of a lane brings. */
export type LaneBatch = Pick<RunLane, 'rows' | 'bytes' | 'inserted' | 'updated' | 'deleted' | 'truncated'> & {
  /** When its reading began. */
  beganAt: string
}

export function beginRun(
  { id, pipeline, kind, from, to }: Pick<RunRecord, 'id' | 'pipeline' | 'kind' | 'from' | 'to'>,
  startedAt: string,
): RunRecord {
  const nothing = { rows: 0, bytes: 0, reads: 0, writes: 0, retries: 0, held: 0, lanes: [], note: null }
  return { id, pipeline, kind, state: 'going', from, to, startedAt, endedAt: null, ...nothing }
}

/** With a batch of a lane that landed at `at`; `writes` is another's to count, since a transaction may bring several lanes. */
export function withBatch(
  run: RunRecord,
  table: string,
  mode: RunLane['mode'],
  { beganAt, ...batch }: LaneBatch,
  at: string,
): RunRecord {
  const { rows, bytes } = batch
  const known = run.lanes.find(lane => lane.table === table && lane.mode === mode)
  const lane: RunLane = known
    ? {
        ...known,
        rows: known.rows + rows,
        bytes: known.bytes + bytes,
        inserted: known.inserted + batch.inserted,
        updated: known.updated + batch.updated,
        deleted: known.deleted + batch.deleted,
        truncated: known.truncated + batch.truncated,
        batches: known.batches + 1,
        endedAt: at,
      }
    : { table, mode, ...batch, batches: 1, startedAt: beganAt, endedAt: at }
  const lanes = known ? run.lanes.map(one => (one === known ? lane : one)) : [...run.lanes, lane]
  return { ...run, rows: run.rows + rows, bytes: run.bytes + bytes, lanes }
}

/** Seconds from its beginning to its end, or to `now` in milliseconds. */
export function runSeconds(
  { startedAt, endedAt }: { startedAt: string; endedAt: string | null },
  now: number,
): number {
  return Math.max(0, ((endedAt === null ? now : Date.parse(endedAt)) - Date.parse(startedAt)) / 1000)
}
