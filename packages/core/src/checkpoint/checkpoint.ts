/** How far a pipeline has come, as its target keeps it: a versioned value, from which earlier versions are made. */
import { Type, type Static } from 'typebox'
import { Value } from 'typebox/value'
import { Failure } from '../failure.ts'
import { positionSchema } from '../position/position.ts'

const nullable = <T extends Type.TSchema>(schema: T) => Type.Union([schema, Type.Null()])

const laneProgressSchema = Type.Object({
  /** Rows of the copy may be there. */
  begun: Type.Boolean(),
  /** The copy is complete. */
  copied: Type.Boolean(),
  copiedRows: Type.Number(),
  /** Where the copy goes on while it is not complete (see `CopyRange`). */
  copiedUpTo: nullable(Type.String()),
  /** The copy holds the changes up to here, where the source can say so. */
  since: nullable(positionSchema),
  /** Rows that were there before it began are not at the target. */
  partial: Type.Optional(Type.Boolean()),
  /** Changes that were passed over when somebody went forward, and where they begin. */
  leftOut: Type.Optional(Type.Object({ changes: Type.Number(), from: positionSchema })),
  /** So many rows are not at the target as they should be, since it would not take them. */
  differs: Type.Optional(Type.Number()),
  /** By how many rows changes had made it larger when its copy began. */
  grownBefore: Type.Optional(Type.Number()),
  /** Its changes before here are in its history already: it was told to go back from there. */
  kept: Type.Optional(positionSchema),
  /** Where the lane stands while it is copied beside the others and catches up; absent when it stands where they do. */
  own: Type.Optional(positionSchema),
  /** It stands still while the others go on. `since`: by our clock, ISO 8601. `why`: null where a person wants that. */
  paused: Type.Optional(
    Type.Object({
      since: Type.String(),
      why: nullable(Type.Object({ message: Type.String(), remedy: Type.String() })),
    }),
  ),
  /** Up to when rows are looked for that time alone moves into its scope, or out of it; by our clock, ISO 8601. */
  swept: Type.Optional(Type.String()),
  /** Changes that have landed since the copy began. */
  inserted: Type.Number(),
  updated: Type.Number(),
  deleted: Type.Number(),
  /** How often all rows went at once. */
  truncated: Type.Optional(Type.Number()),
  /** Of the rows that changes brought, as the source told them. */
  bytes: Type.Optional(Type.Number()),
  /** When the newest of them was committed at the source. */
  lastChange: nullable(Type.String()),
  /** Of a table that is archived: what has become of the rows, of which `copiedRows` are archived. */
  archive: Type.Optional(
    Type.Object({
      /** Up to this key all is done. */
      after: nullable(Type.Array(Type.String())),
      /** The rows behind it, up to that key, are archived; some of them may be deleted at the source already. */
      slice: nullable(Type.Object({ rows: Type.Number(), upTo: Type.Array(Type.String()) })),
      deleted: Type.Number(),
      /** Rows that stay at the source: they changed meanwhile, or others refer to them. */
      kept: Type.Number(),
    }),
  ),
})

export type LaneProgress = Static<typeof laneProgressSchema>

const streamSchema = Type.Object({
  /** The origin's tag; empty where there is only one. */
  origin: Type.String(),
  position: positionSchema,
  /** Everything committed at the source up to here has landed; ISO 8601, by the source's clock. */
  completeUpTo: Type.String(),
  /** False while copied rows may be newer than `completeUpTo` says. */
  consistent: Type.Boolean(),
  /** The number of the plan that the lanes are of; absent for 0. */
  plan: Type.Optional(Type.Number()),
  lanes: Type.Array(laneProgressSchema),
})

/** How far a pipeline has come with one origin. */
export type Stream = Static<typeof streamSchema>

/** One row per pipeline at the target, written in the same transaction as the data. */
export interface Checkpoint {
  pipeline: string
  /** Raised whenever an engine takes the pipeline; a write with an older epoch fails. */
  epoch: number
  streams: Stream[]
}

/** The only one of a pipeline with one origin. */
export function singleStream({ streams }: Checkpoint): Stream {
  if (streams.length !== 1)
    throw new Error(`a checkpoint of ${streams.length} streams where one was expected`)
  return streams[0]!
}

const VERSION = 2

/** A checkpoint as a target's table holds it: everything as text. */
export interface CheckpointRow {
  epoch: string
  position: string
  completeUpTo: string
  lanes: string
  consistent: boolean
}

/** What anybody's SQL can read says the least of all streams; `lanes` has all. */
export function checkpointRow({ epoch, streams }: Checkpoint): CheckpointRow {
  const positions = streams.map(({ position }) => position)
  return {
    epoch: String(epoch),
    position: JSON.stringify(positions.length === 1 ? positions[0] : positions),
    completeUpTo: streams.map(({ completeUpTo }) => completeUpTo).sort()[0]!,
    lanes: JSON.stringify({ version: VERSION, streams }),
    consistent: streams.every(({ consistent }) => consistent),
  }
}

/** The checkpoint in a row of whatever version. Throws a Failure for one that no version of ours has written. */
export function checkpointOf(pipeline: string, row: CheckpointRow): Checkpoint {
  const streams = upgraded(row)
  if (!Value.Check(Type.Array(streamSchema, { minItems: 1 }), streams)) {
    throw new Failure(
      'structural',
      'The checkpoint of this pipeline at the target cannot be read: a later version has written it, or somebody else.',
      'Use the version that has written it, or start again: the tables are copied anew.',
    )
  }
  return { pipeline, epoch: Number(row.epoch), streams }
}

function upgraded({ lanes: text, position, completeUpTo, consistent }: CheckpointRow): unknown {
  try {
    const stored: unknown = JSON.parse(text)
    // The first version had the lanes of one source, and the rest beside them.
    if (Array.isArray(stored))
      return [{ origin: '', position: JSON.parse(position), completeUpTo, consistent, lanes: stored }]
    const { version, streams } = stored as { version: unknown; streams: unknown }
    return version === VERSION ? streams : undefined
  } catch {
    return undefined
  }
}
