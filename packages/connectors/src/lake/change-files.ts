/** Change files: rows of changes go into files of their table, which manifests name. */
import { ChangeRows } from '@tide/core/apply/change-rows'
import { wholeLines } from '@tide/core/records/csv-lines'
import { csvRows } from '@tide/core/records/csv-rows'
import { packRow, type PackedRow } from '@tide/core/records/tuple'
import type { CopyRange } from '../contract/source.ts'
import type { CommitLoad, LaneEffect, TargetLane } from '../contract/target.ts'
import type { ObjectStore } from './object-store.ts'
import type { Parquet } from './parquet.ts'
import { tableFolder } from './paths.ts'
import { TableWriter } from './table-writer.ts'
import type { Publish, Writing } from './writing.ts'

export class ChangeFiles {
  private readonly store: ObjectStore
  private readonly parquet: Parquet
  /** The number of a table's next manifest. */
  private readonly numberOf: (folder: string) => number

  constructor(store: ObjectStore, parquet: Parquet, numberOf: (folder: string) => number) {
    this.store = store
    this.parquet = parquet
    this.numberOf = numberOf
  }

  async load(lane: TargetLane, { csv }: CopyRange, commit: CommitLoad, publish: Publish): Promise<void> {
    const landedAt = new Date().toISOString()
    const writer = this.writer(lane, 'copy')
    let attempted = false
    const rows = new ChangeRows(lane.changes!, namesOf(lane), lane.key)
    let [count, bytes] = [0, 0]
    try {
      for await (const lines of wholeLines(csv)) {
        bytes += lines.length
        const standing: PackedRow[] = []
        for (const row of csvRows(lines)) standing.push(rows.standing(packRow(row), landedAt))
        count += standing.length
        await writer.put(standing, landedAt)
      }
      const files = await writer.finish()
      await commit({ rows: count, bytes }, checkpoint =>
        publish(checkpoint, publication => {
          if (files.length > 0) publication.add(lane, 'copy', files, writer.span)
          attempted = true
          return Promise.resolve()
        }),
      )
    } catch (thrown) {
      // Of a commit whose outcome is not known the files must stay; whoever takes the pipeline next removes what is left.
      if (!attempted) await writer.abort()
      throw thrown
    }
  }

  begin(): Writing {
    const writers = new Map<string, { lane: TargetLane; writer: TableWriter }>()
    const writerOf = (lane: TargetLane) => {
      const folder = tableFolder(lane.table)
      const open = writers.get(folder) ?? { lane, writer: this.writer(lane, 'changes') }
      writers.set(folder, open)
      return open.writer
    }
    return {
      apply: async effects => {
        for (const effect of effects) await applied(effect, writerOf)
        return []
      },
      publish: async publication => {
        for (const { lane, writer } of writers.values()) {
          const files = await writer.finish()
          if (files.length > 0) publication.add(lane, 'changes', files, writer.span)
        }
      },
      published: () => Promise.resolve(),
      abort: async () => {
        for (const { writer } of writers.values()) await writer.abort()
      },
    }
  }

  private writer(lane: TargetLane, kind: 'copy' | 'changes'): TableWriter {
    const folder = tableFolder(lane.table)
    const { store, parquet } = this
    return new TableWriter({ store, parquet, folder, sequence: this.numberOf(folder), lane, kind })
  }
}

async function applied(
  { lane, effect }: LaneEffect,
  writerOf: (lane: TargetLane) => TableWriter,
): Promise<void> {
  const { truncate, removed, puts, append } = effect
  if (!truncate && removed.length === 0 && puts.length === 0) return
  const landedAt = new Date().toISOString()
  if (append) return writerOf(lane).put(rowsOf(puts), landedAt)
  const rows = new ChangeRows(lane.changes!, namesOf(lane), lane.key)
  const standing: PackedRow[] = []
  if (truncate) standing.push(rows.emptied(landedAt))
  for (const key of removed) standing.push(rows.gone(key, landedAt))
  for (const { row } of puts) standing.push(rows.standing(row, landedAt))
  return writerOf(lane).put(standing, landedAt)
}

function* rowsOf(puts: readonly { row: PackedRow }[]): Generator<PackedRow> {
  for (const { row } of puts) yield row
}

const namesOf = ({ columns }: TargetLane) => columns.map(({ name }) => name)
