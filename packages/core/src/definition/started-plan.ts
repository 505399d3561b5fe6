/** A plan as it was started, of whatever version, as one of today. */
import { Type } from 'typebox'
import { Value } from 'typebox/value'
import { Failure } from '../failure.ts'
import { laneSchema, type Lane, type WrittenColumn } from '../plan/lane.ts'
import { prepareStepSchema, type PrepareStep } from '../plan/steps.ts'
import type { Column } from '../records/column.ts'
import type { DatasetName } from '../records/dataset.ts'
import type { LogicalType } from '../records/types.ts'

/** A column of the first version: of both sides at once. */
interface ColumnOfBoth {
  source: string
  target: string
  type: LogicalType
  nativeType: string
  targetType: string
  nullable: boolean
  note?: string
}

interface LaneOfBoth {
  source: DatasetName
  target: DatasetName
  columns: ColumnOfBoth[]
  key: string[]
  rows: number
  rowsExact: boolean
  bytes: number
}

/** Throws a Failure for what no version has stored. */
export function upgradeLanes(stored: unknown): Lane[] {
  const lanes = Array.isArray(stored)
    ? stored.map(lane => ('columns' in Object(lane) ? laneOf(lane) : lane))
    : stored
  if (!Value.Check(Type.Array(laneSchema), lanes)) throw unreadable()
  return lanes
}

/** Throws a Failure for what no version has stored. */
export function upgradeSteps(stored: unknown): PrepareStep[] {
  const steps = Array.isArray(stored) ? stored.map(upgradeStep) : stored
  if (!Value.Check(Type.Array(prepareStepSchema), steps)) throw unreadable()
  return steps
}

function upgradeStep(step: unknown): unknown {
  const { columns } = Object(step) as { columns?: unknown[] }
  if (!columns?.some(column => 'targetType' in Object(column))) return step
  return { ...Object(step), columns: (columns as ColumnOfBoth[]).map(atTarget) }
}

function laneOf({ columns, key, ...lane }: LaneOfBoth): Lane {
  return {
    ...lane,
    reads: columns.map(({ source: name, type, nativeType, nullable }) => ({
      name,
      type,
      nativeType,
      nullable,
    })),
    identity: key,
    writes: columns.map((column): WrittenColumn => ({
      ...atTarget(column),
      value: { from: 'column', column: column.source },
      ...(column.note === undefined ? {} : { note: column.note }),
    })),
    key: key.map(name => columns.find(({ source }) => source === name)!.target),
    scope: null,
  }
}

function atTarget({ target: name, type, targetType: nativeType, nullable }: ColumnOfBoth): Column {
  return { name, type, nativeType, nullable }
}

function unreadable(): Failure {
  return new Failure(
    'structural',
    'A started plan in the store cannot be read: a later version has written it.',
    'Use the version that has written it, or restore the data folder as it was before.',
  )
}
