/**
 * A table is archived slice by slice: read, put into the archive, held against what stands there, and only then deleted at the source, row
 * by row as it was read. Whatever dies when, the next run finds each row at the source, in the archive, or in both.
 */
import type { OrderedTable } from '@tide/connectors/contract/records'
import type { Removal } from '@tide/connectors/contract/removal'
import type { Session } from '@tide/connectors/contract/session'
import type { TargetSide } from '@tide/connectors/contract/target'
import type { LaneProgress } from '@tide/core/checkpoint/checkpoint'
import { Failure } from '@tide/core/failure'
import { countLines, wholeLines } from '@tide/core/records/csv-lines'
import { csvRows } from '@tide/core/records/csv-rows'
import { printName } from '@tide/core/records/dataset'
import { keyOf, type Key } from '@tide/core/records/value'
import { asOf } from '@tide/core/scope/relative'
import { orderedComparison } from '@tide/core/verify/ordered-comparison'
import { sameBytes } from '../../same-bytes.ts'
import type { SharedCheckpoint } from '../replicate/checkpoint.ts'
import type { ArchivedLane } from './lane.ts'

/** A slice has no more than so many rows, where nothing else is said, and no more bytes than that. */
export const SLICE_ROWS = 200_000
const MOST_BYTES = 64 * 2 ** 20
const READ_MS = 3_600_000

export interface SliceParts {
  from: Session
  to: Session
  target: TargetSide
  removal: Removal
  unheard: boolean
  /** In a slice, at most. */
  rows: number
  now(): string
  checkpoint: SharedCheckpoint
}

/** What a slice has come to. */
export interface SliceDone {
  read: number
  archived: number
  deleted: number
  /** Rows that stay at the source. */
  kept: number
  bytes: number
  beganAt: string
}

interface Slice extends Pick<SliceDone, 'read' | 'archived' | 'bytes' | 'beganAt'> {
  /** Rows in scope as they were read. */
  lines: Uint8Array
  rows: number
  /** Rows of a run that was cut off, which are not at the source any more. */
  before: number
  upTo: Key | null
  /** There is nothing behind it. */
  last: boolean
}

type Progress = NonNullable<LaneProgress['archive']>

const NOTHING_DONE: Progress = { after: null, slice: null, deleted: 0, kept: 0 }

/** Until the lane is through or the signal aborts. While a slice is deleted at the source, the next one is read and put. */
export async function archiveLane(
  parts: SliceParts,
  lane: ArchivedLane,
  signal: AbortSignal,
  tell: (done: SliceDone) => void,
): Promise<void> {
  const { archive = NOTHING_DONE } = parts.checkpoint.now.lanes[lane.index]!
  let after: Key | null = archive.after
  let interrupted = archive.slice
  let removing: Promise<void> = Promise.resolve()
  let last = false
  try {
    while (!signal.aborted && !last) {
      const slice: Slice = await putSlice(parts, lane, after, interrupted)
      await removing
      removing = removeSlice(parts, lane, slice, tell)
      removing.catch(() => {}) // it is awaited before anything else is done
      after = slice.upTo
      interrupted = null
      ;({ last } = slice)
    }
  } finally {
    await removing
  }
  await write(parts, lane, progress => ({ ...progress, begun: true, copied: last }))
}

/** Puts what comes next into the archive, and finds it there. */
async function putSlice(
  parts: SliceParts,
  lane: ArchivedLane,
  after: Key | null,
  interrupted: Progress['slice'],
): Promise<Slice> {
  const at = parts.now()
  const coming = { position: null, landedAt: at }
  const { lines: all, cut } = await readLines(parts, lane, after, interrupted?.upTo, at)
  const { count: read, last: lastLine } = countLines(all)
  const lines = lane.scoped?.(all, coming) ?? all
  const rows = countLines(lines).count
  const upTo = interrupted?.upTo ?? (read > 0 ? keyOf(csvRows(lastLine)[0]!, lane.keyPlaces) : after)
  const archived = Math.max(0, rows - (interrupted?.rows ?? 0))
  const slice = {
    lines,
    rows,
    read,
    archived,
    before: Math.max(0, (interrupted?.rows ?? 0) - rows),
    upTo,
    last: !cut && !interrupted && read < parts.rows,
    bytes: 0,
    beganAt: at,
  }
  if (rows === 0) return slice
  // Rows of before may be under these keys: from a run that was cut off, or of a row that had changed.
  const csv = lane.landing?.(lines, coming) ?? lines
  await parts.target.load(lane.target, { csv: [csv], upTo: null }, true, async (loaded, write) => {
    slice.bytes = loaded.bytes
    const change = withArchive(lane, (archive, progress) => ({
      ...progress,
      begun: true,
      copiedRows: progress.copiedRows + archived,
      archive: {
        ...archive,
        // With those of the slice before that are still being deleted.
        slice: {
          rows: (interrupted ? 0 : (archive.slice?.rows ?? 0)) + rows + slice.before,
          upTo: [...upTo!],
        },
      },
    }))
    await parts.checkpoint.commit(change, write)
  })
  await verify(parts, lane, lane.comparing?.(lines, coming) ?? lines, { rows, after, upTo: upTo! })
  return slice
}

async function removeSlice(
  { removal, unheard, checkpoint }: SliceParts,
  lane: ArchivedLane,
  { lines, rows, before, upTo, ...slice }: Slice,
  tell: (done: SliceDone) => void,
): Promise<void> {
  const removed = rows > 0 ? await removal.remove(asOrdered(lane), lines, unheard) : 0
  const done = { ...slice, deleted: removed + before, kept: rows - removed }
  await checkpoint.note(
    withArchive(lane, (archive, progress) => {
      const left = (archive.slice?.rows ?? 0) - rows - before
      return {
        ...progress,
        archive: {
          after: upTo ? [...upTo] : null,
          slice: archive.slice && left > 0 ? { ...archive.slice, rows: left } : null,
          deleted: archive.deleted + done.deleted,
          kept: archive.kept + done.kept,
        },
      }
    }),
  )
  tell(done)
}

function withArchive(
  { index }: ArchivedLane,
  change: (archive: Progress, progress: LaneProgress) => LaneProgress,
): Parameters<SharedCheckpoint['note']>[0] {
  return stream => ({
    ...stream,
    lanes: stream.lanes.map((lane, i) => (i === index ? change(lane.archive ?? NOTHING_DONE, lane) : lane)),
  })
}

function asOrdered({ source, verified }: ArchivedLane): OrderedTable {
  const { order, quotedAtSource: quoted } = verified
  return { ...source, order, quoted }
}

/** Rows that may be in scope, in the order of their keys: as many as are in a slice, or up to a key. */
async function readLines(
  { from, rows }: SliceParts,
  lane: ArchivedLane,
  after: Key | null,
  upTo: Key | undefined,
  at: string,
): Promise<{ lines: Uint8Array; cut: boolean }> {
  if (!from.ordered)
    throw new Failure('structural', 'This source cannot be looked through.', 'Archive from another.')
  const where = lane.plan.scope ? { where: asOf(lane.plan.scope, lane.plan.reads, at) } : {}
  const range = { ...(after ? { after } : {}), ...(upTo ? { upTo } : { most: rows }) }
  const table = { ...asOrdered(lane), ...where, ...range }
  const read: Uint8Array[] = []
  let bytes = 0
  const limits = { timeoutMs: READ_MS, signal: new AbortController().signal }
  for await (const lines of wholeLines(from.ordered(table, limits))) {
    read.push(lines)
    bytes += lines.length
    if (bytes >= MOST_BYTES && !upTo) return { lines: Buffer.concat(read), cut: true }
  }
  return { lines: Buffer.concat(read), cut: false }
}

/** Every row of the slice is read back from the archive, and held against what was read at the source. */
async function verify(
  { to }: SliceParts,
  { verified, target, plan }: ArchivedLane,
  expected: Uint8Array,
  { rows, after, upTo }: { rows: number; after: Key | null; upTo: Key },
): Promise<void> {
  if (!to.ordered)
    throw new Failure('structural', 'The archive cannot be looked through.', 'Choose another target.')
  const { lane, keyPlaces, order, quotedAtTarget: quoted } = verified
  const table: OrderedTable = {
    dataset: target.table,
    columns: lane.writes,
    key: keyPlaces.map(place => lane.writes[place]!.name),
    order,
    quoted,
    ...(after ? { after } : {}),
    upTo,
  }
  const limits = { timeoutMs: READ_MS, signal: new AbortController().signal }
  const comparing = orderedComparison(once(expected), to.ordered(table, limits), verified, sameBytes)
  let [equal, atSource] = [0, 0]
  let first: Key | undefined
  for await (const told of comparing) {
    equal += told.equal
    atSource += told.atSource
    first ??= told.questions[0]?.key
  }
  if (equal === rows && atSource === rows) return
  const such = first ? `, such as the one with the key ${first.join(', ')}` : ''
  throw new Failure(
    'structural',
    `${(rows - equal).toLocaleString('en')} of ${rows.toLocaleString('en')} rows of ${printName(plan.source)} do not stand in ${printName(plan.target)} as they were read${such}. None of them is deleted.`,
    'Look at the row on both sides; start again when the reason is gone.',
  )
}

async function* once(bytes: Uint8Array): AsyncGenerator<Uint8Array> {
  yield bytes
}

/** Commits what is known of the lane without any rows. */
async function write(
  { target, checkpoint }: SliceParts,
  { index }: ArchivedLane,
  change: (lane: LaneProgress) => LaneProgress,
): Promise<void> {
  const writing = await target.begin()
  try {
    await checkpoint.commit(
      stream => ({ ...stream, lanes: stream.lanes.map((lane, i) => (i === index ? change(lane) : lane)) }),
      next => writing.commit(next),
    )
  } catch (thrown) {
    await writing.rollback()
    throw thrown
  }
}
