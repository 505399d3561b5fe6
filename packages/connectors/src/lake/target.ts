/** Writes into a lake: rows go into files as they come, and are published together by a commit. */
import { ChangeRows } from '@tide/core/apply/change-rows'
import type { Checkpoint } from '@tide/core/checkpoint/checkpoint'
import { FILES_GATHER, foldersOf } from '@tide/core/definition/files'
import { Turns } from '@tide/core/pace/turns'
import type { PrepareStep } from '@tide/core/plan/steps'
import type { TargetProfile } from '@tide/core/plan/input'
import { wholeLines } from '@tide/core/records/csv-lines'
import { csvRows } from '@tide/core/records/csv-rows'
import { printName } from '@tide/core/records/dataset'
import { packRow, type PackedRow } from '@tide/core/records/tuple'
import { randomUUID } from 'node:crypto'
import { overtaken } from '../checkpoint.ts'
import type { CopyRange } from '../contract/source.ts'
import type {
  ApplyTransaction,
  CommitLoad,
  Gathering,
  LaneEffect,
  TargetLane,
  TargetSide,
} from '../contract/target.ts'
import { Commits } from './commits.ts'
import { leftOver } from './left-over.ts'
import type { ObjectStore } from './object-store.ts'
import type { Parquet } from './parquet.ts'
import { tableFolder } from './paths.ts'
import { Publication, type Prepared } from './publication.ts'
import { TableWriter } from './table-writer.ts'

/** Small files make whoever reads them slow, and each costs its round trips. */
const GATHERING: Gathering = FILES_GATHER

export class LakeTarget implements TargetSide {
  readonly profile: TargetProfile
  readonly gathering = GATHERING
  private readonly store: ObjectStore
  private readonly parquet: Parquet
  private readonly turns = new Turns()
  private commits: Commits | undefined

  constructor(store: ObjectStore, parquet: Parquet, profile: TargetProfile) {
    this.store = store
    this.parquet = parquet
    this.profile = profile
  }

  ddl(steps: readonly PrepareStep[]): string[] {
    return steps.flatMap(said)
  }

  prepare(steps: readonly PrepareStep[], checkpoint: Checkpoint): Promise<void> {
    return this.turns.run(async () => {
      const commits = (this.commits = new Commits(this.store, checkpoint.pipeline))
      await commits.look()
      if (commits.checkpoint && commits.checkpoint.epoch > checkpoint.epoch) throw overtaken()
      await this.publish(checkpoint, [], steps)
    })
  }

  make(): Promise<void> {
    return Promise.resolve() // a table is there with its first file
  }

  change(steps: readonly PrepareStep[], again: readonly TargetLane[], checkpoint: Checkpoint): Promise<void> {
    return this.turns.run(() => this.publish(checkpoint, again, steps))
  }

  async load(lane: TargetLane, { csv }: CopyRange, _again: boolean, commit: CommitLoad): Promise<void> {
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
      await this.turns.run(() =>
        commit({ rows: count, bytes }, async checkpoint => {
          const publication = await this.publication(checkpoint)
          if (files.length > 0) publication.add(lane, 'copy', files, writer.span)
          attempted = true
          await publication.commit()
        }),
      )
    } catch (thrown) {
      // Of a commit whose outcome is not known the files must stay; whoever takes the pipeline next removes what is left.
      if (!attempted) await writer.abort()
      throw thrown
    }
  }

  async begin(): Promise<ApplyTransaction> {
    const end = await this.turns.take()
    const writers = new Map<string, { lane: TargetLane; writer: TableWriter }>()
    const writerOf = (lane: TargetLane) => {
      const folder = tableFolder(lane.table)
      const open = writers.get(folder) ?? { lane, writer: this.writer(lane, 'changes') }
      writers.set(folder, open)
      return open.writer
    }
    let attempted = false
    return {
      apply: async effects => {
        for (const effect of effects) await applied(effect, writerOf)
        return []
      },
      commit: async checkpoint => {
        const publication = await this.publication(checkpoint)
        for (const { lane, writer } of writers.values()) {
          const files = await writer.finish()
          if (files.length > 0) publication.add(lane, 'changes', files, writer.span)
        }
        attempted = true
        await publication.commit()
        end()
      },
      rollback: async () => {
        // Of a commit whose outcome is not known the files must stay; whoever takes the pipeline next removes what is left.
        if (!attempted) for (const { writer } of writers.values()) await writer.abort()
        end()
      },
    }
  }

  async readCheckpoint(pipeline: string): Promise<Checkpoint | undefined> {
    const commits = new Commits(this.store, pipeline)
    await commits.look()
    return commits.checkpoint
  }

  takeCheckpoint(pipeline: string, epoch: number, freshFrom: number): Promise<Checkpoint | undefined> {
    return this.turns.run(async () => {
      const commits = (this.commits = new Commits(this.store, pipeline))
      for (;;) {
        await commits.look()
        const { checkpoint: found } = commits
        if (!found || found.epoch < freshFrom) return undefined
        if (found.epoch > epoch) return found
        // What its last commit says may not be published yet.
        await commits.publish()
        const taken = { ...found, epoch }
        try {
          // Each table's next number is taken, so that nobody who comes late publishes under it.
          const publication = new Publication(commits, taken)
          for (const folder of Object.keys(commits.newest!.tables)) publication.fence(folder)
          await publication.commit()
        } catch (thrown) {
          if (await this.hasGoneOn(commits)) continue
          throw thrown
        }
        await this.store.remove(await leftOver(this.store, commits.newest!.tables))
        return taken
      }
    })
  }

  empty(lanes: readonly TargetLane[], checkpoint: Checkpoint): Promise<void> {
    return this.turns.run(() => this.publish(checkpoint, lanes, []))
  }

  forget(pipeline: string): Promise<void> {
    return this.turns.run(async () => {
      const commits = new Commits(this.store, pipeline)
      await commits.look()
      const { newest } = commits
      if (!newest?.checkpoint) return
      await commits.publish()
      await commits.append(randomUUID(), { epoch: newest.epoch, streams: null }, newest.tables, [])
    })
  }

  /** Rows of its files since the last time that all began anew. */
  async count({ table }: TargetLane): Promise<number> {
    return Promise.resolve(this.commits?.newest?.tables[tableFolder(table)]?.rows ?? 0)
  }

  /** Whether somebody has made a commit since it was looked. */
  private async hasGoneOn(commits: Commits): Promise<boolean> {
    const before = commits.newest?.id
    await commits.look()
    return commits.newest?.id !== before
  }

  private async publish(
    checkpoint: Checkpoint,
    emptied: readonly TargetLane[],
    steps: readonly PrepareStep[],
  ): Promise<void> {
    const publication = await this.publication(checkpoint)
    for (const step of steps) {
      if (step.step !== 'create table' && step.step !== 'replace table') continue
      await publication.begin(this.store, preparedBy(step))
    }
    for (const lane of emptied) publication.reset(lane)
    await publication.commit()
  }

  private async publication(checkpoint: Checkpoint): Promise<Publication> {
    let { commits } = this
    if (commits?.pipeline !== checkpoint.pipeline) {
      commits = this.commits = new Commits(this.store, checkpoint.pipeline)
      await commits.look()
    }
    const { newest } = commits
    if (newest && newest.epoch > checkpoint.epoch) throw overtaken()
    return new Publication(commits, checkpoint)
  }

  private writer(lane: TargetLane, kind: 'copy' | 'changes'): TableWriter {
    const folder = tableFolder(lane.table)
    const sequence = (this.commits?.newest?.tables[folder]?.sequence ?? 0) + 1
    return new TableWriter({ store: this.store, parquet: this.parquet, folder, sequence, lane, kind })
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

function preparedBy({
  table,
  columns,
  key,
  files,
}: Extract<PrepareStep, { step: 'create table' | 'replace table' }>): Prepared {
  if (!files) throw new Error(`no files were planned for ${printName(table)}`)
  return { table, columns, key, files }
}

/** What a step does, as the plan shows it: there are no statements. */
function said(step: PrepareStep): string[] {
  if (step.step === 'create schema') return []
  const folder = tableFolder(step.table)
  if (step.step === 'empty table') return [`${folder}/manifest: the next one says that all begins anew`]
  if (step.step === 'alter table') return [`${folder}/schema: another one, from the next file on`]
  const { format, compress, folders } = step.files!
  const example = folders === '' ? '' : `${foldersOf(folders, '2026-03-09T17:00:00Z')}/`
  return [
    `${folder}/data/${example}…: ${format}${compress === 'none' ? '' : `, ${compress}`}\n` +
      step.columns.map(({ name, nativeType }) => `  ${name} ${nativeType}`).join('\n'),
  ]
}
