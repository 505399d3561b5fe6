import type { HeldRecord } from '../definition/held.ts'
import type { DatasetName } from '../records/dataset.ts'

/** A held record as people see it. */
export interface HeldAnswer extends Omit<HeldRecord, 'identity' | 'table' | 'pipeline'> {
  table: DatasetName
  target: DatasetName | null
  /** The columns at the target in their order, with the column of the source that each is made of; null: of none, or of several. */
  fields: { name: string; from: string | null }[]
  /** Names of the key's columns at the source, and at the target. */
  key: string[]
  targetKey: string[]
  /** So many others of the same row are held with it. */
  behind: number
}

/** Records of one cause. */
export interface HeldGroup {
  pipeline: string
  /** The pipeline's. */
  name: string
  /** The record that engines run: an origin, or the pipeline itself. */
  run: string
  origin: string
  table: DatasetName
  column: string | null
  /** The reason of the newest of them. */
  reason: string
  remedy: string
  cause: string
  /** Rows, each counted once. */
  rows: number
  records: number
  oldest: string
  newest: string
}

export interface HeldOverview {
  groups: HeldGroup[]
  /** Rows that are held, in all of them. */
  rows: number
}
