import {
  type AnyPgColumn,
  bigint,
  boolean,
  doublePrecision,
  index,
  integer,
  jsonb,
  pgTable,
  primaryKey,
  text,
  timestamp,
  uniqueIndex,
} from 'drizzle-orm/pg-core'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { SendDeed } from '@tide/core/api/send'
import type { TwoWayDeed, TwoWayTrail } from '@tide/core/api/two-way'
import type { WebhookSigning } from '@tide/core/app/description'
import type { Side } from '@tide/core/merge/rule'
import type { HeldField, Pair } from '@tide/core/two-way/pair'
import type { PointWhy, RestorePoint } from '@tide/core/two-way/restore'
import type { TwoWayIntent } from '@tide/core/two-way/intent'
import type { QueryParameter } from '@tide/core/definition/query-parameters'
import type { Definition, PipelineState } from '@tide/core/definition/definition'
import type { Errand } from '@tide/core/definition/errand'
import type { PendingChange, StopReason } from '@tide/core/definition/pipeline'
import type { LogLevel } from '@tide/core/definition/log'
import type { HeldDeed, HeldRecord, HeldState } from '@tide/core/definition/held'
import type {
  DifferenceKind,
  LaneVerified,
  RepairDeed,
  VerificationLevel,
  VerificationPace,
} from '@tide/core/definition/verification'
import type { Doing, KeptSchedule, Schedule, ScheduledDeed } from '@tide/core/definition/schedule'
import type { RunKind, RunLane, RunState } from '@tide/core/definition/run'
import type { SavedPosition } from '@tide/core/definition/saved-position'
import type { Position } from '@tide/core/position/position'
import type { Lane } from '@tide/core/plan/lane'
import type { PrepareStep } from '@tide/core/plan/steps'

const moment = (name: string) => timestamp(name, { withTimezone: true, mode: 'string' })

export const connection = pgTable('connection', {
  id: text('id').primaryKey(),
  name: text('name').notNull().unique(),
  kind: text('kind').notNull(),
  /** Settings without secrets. */
  config: jsonb('config').$type<Record<string, unknown>>().notNull(),
  /** The secrets as JSON, sealed. */
  secrets: text('secrets').notNull(),
  lastCheck: jsonb('last_check').$type<{ at: string; failed: number; warnings: number }>(),
  createdAt: moment('created_at').notNull().defaultNow(),
})

export const pipeline = pgTable('pipeline', {
  id: text('id').primaryKey(),
  /** Of an origin of a pipeline that has several: that pipeline. */
  of: text('of').references((): AnyPgColumn => pipeline.id, { onDelete: 'cascade' }),
  /** Of an origin: its tag. */
  origin: text('origin').notNull().default(''),
  /** Of an origin: its place among them. */
  place: integer('place').notNull().default(0),
  definition: jsonb('definition').$type<Definition>().notNull(),
  state: text('state').$type<PipelineState>().notNull(),
  /** What its people want of it; the engine works towards that. */
  wanted: text('wanted').$type<'run' | 'pause' | 'stop'>().notNull(),
  reason: jsonb('reason').$type<StopReason>(),
  /** Raised whenever an engine takes the pipeline. */
  epoch: integer('epoch').notNull().default(0),
  /** A checkpoint of an earlier epoch belongs to an earlier start and is not continued. */
  freshFrom: integer('fresh_from').notNull().default(1),
  /** The plan as it was started. */
  lanes: jsonb('lanes').$type<Lane[]>().notNull().default([]),
  steps: jsonb('steps').$type<PrepareStep[]>().notNull().default([]),
  startedAt: moment('started_at'),
  /** Raised with every change of the plan while it runs. */
  plan: integer('plan').notNull().default(0),
  /** What is still to be done for the last of them. */
  change: jsonb('change').$type<PendingChange>(),
  /** The engine process that runs it, and until when nobody else may. */
  holder: text('holder'),
  leasedUntil: moment('leased_until'),
  /** The data folder that it is tied to, and what ties it there; null when any engine may run it. */
  home: text('home'),
  affinity: text('tie'),
  /** Until then, its log tells details. */
  detailedUntil: moment('detailed_until'),
  createdAt: moment('created_at').notNull().defaultNow(),
})

/** What a pipeline has run by, from each start and change on. */
export const version = pgTable(
  'version',
  {
    pipeline: text('pipeline')
      .notNull()
      .references(() => pipeline.id, { onDelete: 'cascade' }),
    number: integer('number').notNull(),
    at: moment('at').notNull(),
    definition: jsonb('definition').$type<Definition>().notNull(),
  },
  table => [primaryKey({ columns: [table.pipeline, table.number] })],
)

/** Keys that the application makes for itself, sealed. */
export const sealedKey = pgTable('sealed_key', {
  name: text('name').primaryKey(),
  sealed: text('sealed').notNull(),
})

/** What somebody asked of a running pipeline. */
export const errand = pgTable(
  'errand',
  {
    id: text('id').primaryKey(),
    pipeline: text('pipeline')
      .notNull()
      .references(() => pipeline.id, { onDelete: 'cascade' }),
    kind: text('kind').$type<Errand['kind']>().notNull(),
    lanes: jsonb('lanes').$type<number[]>().notNull(),
    to: jsonb('to').$type<Position>(),
    reason: text('reason'),
    held: jsonb('held').$type<HeldDeed>(),
    repair: jsonb('repair').$type<RepairDeed>(),
    send: jsonb('send').$type<SendDeed>(),
    twoWay: jsonb('two_way').$type<TwoWayDeed>(),
    askedBy: text('asked_by'),
    askedAt: moment('asked_at').notNull(),
    begunAt: moment('begun_at'),
    state: text('state').$type<Errand['state']>().notNull().default('waiting'),
    outcome: text('outcome'),
    endedAt: moment('ended_at'),
  },
  table => [index('errand_pipeline').on(table.pipeline, table.askedAt)],
)

/** Where pipelines stood at moments that people may want to go back to. */
export const savedPosition = pgTable(
  'saved_position',
  {
    id: bigint('id', { mode: 'number' }).primaryKey().generatedAlwaysAsIdentity(),
    pipeline: text('pipeline')
      .notNull()
      .references(() => pipeline.id, { onDelete: 'cascade' }),
    kind: text('kind').$type<SavedPosition['kind']>().notNull(),
    at: moment('at').notNull(),
    position: jsonb('position').$type<Position>().notNull(),
    completeUpTo: text('complete_up_to'),
    note: text('note'),
  },
  table => [index('saved_position_pipeline').on(table.pipeline, table.id)],
)

/** Rows that a target would not take. */
export const held = pgTable(
  'held',
  {
    id: bigint('id', { mode: 'number' }).primaryKey().generatedAlwaysAsIdentity(),
    pipeline: text('pipeline')
      .notNull()
      .references(() => pipeline.id, { onDelete: 'cascade' }),
    table: text('table').notNull(),
    /** The key as JSON, sealed: it may be masked at the target. */
    identity: text('identity').notNull(),
    /** A keyed hash of the key, to find it by. */
    keyHash: text('key_hash').notNull(),
    told: jsonb('told').$type<string[]>().notNull(),
    op: text('op').$type<HeldRecord['op']>().notNull(),
    position: text('position').notNull(),
    number: integer('number').notNull(),
    committedAt: text('committed_at'),
    source: jsonb('source').$type<HeldRecord['source']>().notNull(),
    shaped: jsonb('shaped').$type<HeldRecord['shaped']>(),
    column: text('column'),
    reason: text('reason').notNull(),
    remedy: text('remedy').notNull(),
    cause: text('cause').notNull(),
    heldAt: moment('held_at').notNull(),
    state: text('state').$type<HeldState>().notNull().default('open'),
    /** The row at the target is not as it should be because of this one. */
    differs: boolean('differs').notNull().default(true),
    closedAt: moment('closed_at'),
    note: text('note'),
  },
  table => [
    uniqueIndex('held_once').on(table.pipeline, table.table, table.keyHash, table.position, table.number),
    index('held_state').on(table.state, table.pipeline, table.cause),
  ],
)

/** A process that runs pipelines. */
export const engine = pgTable('engine', {
  id: text('id').primaryKey(),
  name: text('name').notNull(),
  home: text('home').notNull(),
  startedAt: moment('started_at').notNull().defaultNow(),
  seenAt: moment('seen_at').notNull().defaultNow(),
})

/** What the engine that runs a pipeline tells those that do not. */
export const liveStatus = pgTable('live_status', {
  pipeline: text('pipeline')
    .primaryKey()
    .references(() => pipeline.id, { onDelete: 'cascade' }),
  at: moment('at').notNull().defaultNow(),
  status: jsonb('status').$type<PipelineStatus>().notNull(),
})

/** What a pipeline did from a beginning to an end. */
export const run = pgTable(
  'run',
  {
    id: text('id').primaryKey(),
    pipeline: text('pipeline')
      .notNull()
      .references(() => pipeline.id, { onDelete: 'cascade' }),
    kind: text('kind').$type<RunKind>().notNull().default('copy'),
    state: text('state').$type<RunState>().notNull().default('done'),
    from: text('from').notNull(),
    to: text('to').notNull(),
    startedAt: moment('started_at').notNull(),
    endedAt: moment('ended_at'),
    /** Its figures are as of then. */
    toldAt: moment('told_at').notNull().defaultNow(),
    rows: bigint('rows', { mode: 'number' }).notNull().default(0),
    bytes: bigint('bytes', { mode: 'number' }).notNull().default(0),
    reads: bigint('reads', { mode: 'number' }).notNull().default(0),
    writes: bigint('writes', { mode: 'number' }).notNull().default(0),
    retries: integer('retries').notNull().default(0),
    held: integer('held').notNull().default(0),
    lanes: jsonb('lanes').$type<RunLane[]>().notNull().default([]),
    note: text('note'),
  },
  table => [index('run_pipeline').on(table.pipeline, table.startedAt)],
)

/** Readings of a pipeline's cumulative lines, at one resolution each. */
export const figure = pgTable(
  'figure',
  {
    pipeline: text('pipeline')
      .notNull()
      .references(() => pipeline.id, { onDelete: 'cascade' }),
    /** Seconds that one reading stands for. */
    resolution: integer('resolution').notNull(),
    at: moment('at').notNull(),
    committed: bigint('committed', { mode: 'number' }).notNull(),
    landed: bigint('landed', { mode: 'number' }).notNull(),
    /** Rows copied. */
    copied: bigint('copied', { mode: 'number' }).notNull().default(0),
    lag: doublePrecision('lag'),
  },
  table => [primaryKey({ columns: [table.pipeline, table.resolution, table.at] })],
)

/** Readings of what has landed in a lane, at one resolution each; only those that are more than the one before. */
export const laneFigure = pgTable(
  'lane_figure',
  {
    pipeline: text('pipeline')
      .notNull()
      .references(() => pipeline.id, { onDelete: 'cascade' }),
    /** Its table at the source. */
    table: text('table').notNull(),
    /** Seconds that one reading stands for. */
    resolution: integer('resolution').notNull(),
    at: moment('at').notNull(),
    inserted: bigint('inserted', { mode: 'number' }).notNull(),
    updated: bigint('updated', { mode: 'number' }).notNull(),
    deleted: bigint('deleted', { mode: 'number' }).notNull(),
    truncated: bigint('truncated', { mode: 'number' }).notNull(),
    bytes: bigint('bytes', { mode: 'number' }).notNull(),
  },
  table => [primaryKey({ columns: [table.pipeline, table.table, table.resolution, table.at] })],
)

export const logEntry = pgTable(
  'log_entry',
  {
    id: bigint('id', { mode: 'number' }).primaryKey().generatedAlwaysAsIdentity(),
    at: moment('at').notNull().defaultNow(),
    level: text('level').$type<LogLevel>().notNull(),
    pipeline: text('pipeline').references(() => pipeline.id, { onDelete: 'cascade' }),
    lanes: text('lanes').array().notNull().default([]),
    message: text('message').notNull(),
    remedy: text('remedy'),
    byPerson: boolean('by_person').notNull().default(false),
  },
  table => [
    index('log_entry_pipeline').on(table.pipeline, table.id),
    index('log_entry_at').on(table.level, table.at),
  ],
)

/** Questions that people have given a name, as they are now. */
export const savedQuery = pgTable('saved_query', {
  id: text('id').primaryKey(),
  name: text('name').notNull().unique(),
  connection: text('connection').notNull(),
  sql: text('sql').notNull(),
  /** Columns that together tell a row from all others. */
  key: jsonb('key').$type<string[]>().notNull(),
  parameters: jsonb('parameters').$type<QueryParameter[]>().notNull().default([]),
  version: integer('version').notNull().default(1),
  changedAt: moment('changed_at').notNull(),
})

/** And as they were. */
export const savedQueryVersion = pgTable(
  'saved_query_version',
  {
    query: text('query')
      .notNull()
      .references(() => savedQuery.id, { onDelete: 'cascade' }),
    number: integer('number').notNull(),
    at: moment('at').notNull(),
    sql: text('sql').notNull(),
    key: jsonb('key').$type<string[]>().notNull(),
    parameters: jsonb('parameters').$type<QueryParameter[]>().notNull().default([]),
  },
  table => [primaryKey({ columns: [table.query, table.number] })],
)

/** What is done with a pipeline at set times. */
export const schedule = pgTable(
  'schedule',
  {
    id: text('id').primaryKey(),
    pipeline: text('pipeline')
      .notNull()
      .references(() => pipeline.id, { onDelete: 'cascade' }),
    deed: text('deed').$type<ScheduledDeed>().notNull(),
    cron: text('cron').notNull(),
    zone: text('zone').notNull(),
    missed: text('missed').$type<Schedule['missed']>().notNull(),
    waitsFor: jsonb('waits_for').$type<string[]>().notNull(),
    only: text('only').$type<Schedule['only']>().notNull().default('always'),
    landed: jsonb('landed').$type<Record<string, string>>(),
    enabled: boolean('enabled').notNull(),
    createdAt: moment('created_at').notNull(),
    lastTick: moment('last_tick'),
    doing: jsonb('doing').$type<Doing>(),
    outcome: jsonb('outcome').$type<KeptSchedule['outcome']>(),
  },
  table => [index('schedule_pipeline').on(table.pipeline, table.createdAt)],
)

/** What was held against its sources. */
export const verification = pgTable(
  'verification',
  {
    id: text('id').primaryKey(),
    pipeline: text('pipeline')
      .notNull()
      .references(() => pipeline.id, { onDelete: 'cascade' }),
    level: text('level').$type<VerificationLevel>().notNull(),
    pace: jsonb('pace').$type<VerificationPace>().notNull(),
    askedAt: moment('asked_at').notNull(),
  },
  table => [index('verification_pipeline').on(table.pipeline, table.askedAt)],
)

export const verifiedLane = pgTable(
  'verified_lane',
  {
    verification: text('verification')
      .notNull()
      .references(() => verification.id, { onDelete: 'cascade' }),
    /** Among those of the pipeline. */
    lane: integer('lane').notNull(),
    /** The record that engines run, and the lane's place there. */
    run: text('run').notNull(),
    index: integer('index').notNull(),
    over: boolean('over').notNull().default(false),
    verified: jsonb('verified').$type<LaneVerified>().notNull(),
  },
  table => [
    primaryKey({ columns: [table.verification, table.lane] }),
    index('verified_lane_run').on(table.run, table.over),
  ],
)

/** Rows of which the sides do not agree. */
export const difference = pgTable(
  'difference',
  {
    id: bigint('id', { mode: 'number' }).primaryKey().generatedAlwaysAsIdentity(),
    verification: text('verification')
      .notNull()
      .references(() => verification.id, { onDelete: 'cascade' }),
    lane: integer('lane').notNull(),
    /** As JSON, sealed. */
    key: text('key').notNull(),
    kind: text('kind').$type<DifferenceKind>().notNull(),
    columns: jsonb('columns').$type<string[]>().notNull(),
    repairedAt: moment('repaired_at'),
  },
  table => [index('difference_lane').on(table.verification, table.lane, table.id)],
)

/** How far a lane of a two-way pipeline has come. */
export const twoWayLane = pgTable(
  'two_way_lane',
  {
    pipeline: text('pipeline')
      .notNull()
      .references(() => pipeline.id, { onDelete: 'cascade' }),
    lane: text('lane').notNull(),
    /** Of what the lane was when its records were read last. */
    digest: text('digest').notNull(),
    /** Up to where the changes of each side were taken in. */
    cursors: jsonb('cursors').$type<Record<Side, string | null>>().notNull(),
    sweptAt: moment('swept_at'),
  },
  table => [primaryKey({ columns: [table.pipeline, table.lane] })],
)

/** Two records that are known to be the same. */
export const twoWayPair = pgTable(
  'two_way_pair',
  {
    id: text('id').primaryKey(),
    pipeline: text('pipeline')
      .notNull()
      .references(() => pipeline.id, { onDelete: 'cascade' }),
    lane: text('lane').notNull(),
    a: text('a'),
    b: text('b'),
    origin: text('origin').$type<Side>().notNull(),
    halves: jsonb('halves').$type<Pair['halves']>().notNull(),
    base: jsonb('base').$type<Pair['base']>().notNull(),
    state: text('state').$type<Pair['state']>().notNull(),
    held: jsonb('held').$type<HeldField[]>().notNull(),
    isHeld: boolean('is_held').notNull(),
    alone: boolean('alone').notNull(),
    waits: boolean('waits').notNull(),
    label: text('label'),
    changedAt: moment('changed_at').notNull(),
  },
  table => [
    uniqueIndex('two_way_pair_a').on(table.pipeline, table.lane, table.a),
    uniqueIndex('two_way_pair_b').on(table.pipeline, table.lane, table.b),
    index('two_way_pair_held').on(table.pipeline, table.isHeld),
    index('two_way_pair_waits').on(table.pipeline, table.lane, table.waits),
  ],
)

/** What is about to be written to an app, for as long as it is not known what has become of it. */
export const twoWayIntent = pgTable(
  'two_way_intent',
  {
    once: text('once').primaryKey(),
    pipeline: text('pipeline')
      .notNull()
      .references(() => pipeline.id, { onDelete: 'cascade' }),
    intent: jsonb('intent').$type<TwoWayIntent>().notNull(),
    at: moment('at').notNull(),
  },
  table => [index('two_way_intent_pipeline').on(table.pipeline, table.at)],
)

/** What was written to records of two-way pipelines. */
export const twoWayTrail = pgTable(
  'two_way_trail',
  {
    id: bigint('id', { mode: 'number' }).primaryKey().generatedAlwaysAsIdentity(),
    pipeline: text('pipeline')
      .notNull()
      .references(() => pipeline.id, { onDelete: 'cascade' }),
    at: moment('at').notNull(),
    run: text('run').notNull(),
    lane: text('lane').notNull(),
    pair: text('pair').notNull(),
    side: text('side').$type<Side>().notNull(),
    op: text('op').$type<TwoWayTrail['op']>().notNull(),
    record: text('record'),
    field: text('field'),
    was: text('was'),
    became: text('became'),
    why: text('why').notNull(),
  },
  table => [
    index('two_way_trail_pair').on(table.pipeline, table.pair, table.id),
    index('two_way_trail_run').on(table.pipeline, table.run, table.id),
  ],
)

/** Moments to which records of two-way pipelines can be written back. */
export const restorePoint = pgTable(
  'restore_point',
  {
    id: text('id').primaryKey(),
    pipeline: text('pipeline')
      .notNull()
      .references(() => pipeline.id, { onDelete: 'cascade' }),
    at: moment('at').notNull(),
    why: text('why').$type<PointWhy>().notNull(),
    records: jsonb('records').$type<RestorePoint['records']>().notNull(),
    bytes: bigint('bytes', { mode: 'number' }).notNull(),
    digests: jsonb('digests').$type<RestorePoint['digests']>().notNull(),
  },
  table => [index('restore_point_pipeline').on(table.pipeline, table.at)],
)

/** Some records of one side of a lane: JSON, compressed by gzip, in Base64. */
export const restorePart = pgTable(
  'restore_part',
  {
    point: text('point')
      .notNull()
      .references(() => restorePoint.id, { onDelete: 'cascade' }),
    n: integer('n').notNull(),
    lane: text('lane').notNull(),
    side: text('side').$type<Side>().notNull(),
    body: text('body').notNull(),
  },
  table => [primaryKey({ columns: [table.point, table.n] })],
)

/** Addresses that apps call when records have changed. */
export const webhook = pgTable(
  'webhook',
  {
    /** The last part of the address. */
    id: text('id').primaryKey(),
    pipeline: text('pipeline')
      .notNull()
      .references(() => pipeline.id, { onDelete: 'cascade' }),
    connection: text('connection').notNull(),
    object: text('object').notNull(),
    /** As the app knows it. */
    subscription: text('subscription').notNull(),
    url: text('url').notNull(),
    signed: jsonb('signed').$type<WebhookSigning>().notNull(),
    /** Sealed. */
    secret: text('secret').notNull(),
  },
  table => [index('webhook_pipeline').on(table.pipeline)],
)
