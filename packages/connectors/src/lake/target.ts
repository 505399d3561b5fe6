/** Writes into a lake: rows go into files as they come, and are published together by a commit. */
import type { Checkpoint } from '@tide/core/checkpoint/checkpoint'
import { FILES_GATHER, foldersOf } from '@tide/core/definition/files'
import { Turns } from '@tide/core/pace/turns'
import type { PrepareStep } from '@tide/core/plan/steps'
import type { TargetProfile } from '@tide/core/plan/input'
import { randomUUID } from 'node:crypto'
import { overtaken } from '../checkpoint.ts'
import type { CopyRange } from '../contract/source.ts'
import type { ApplyTransaction, CommitLoad, Gathering, TargetLane, TargetSide } from '../contract/target.ts'
import { ChangeFiles } from './change-files.ts'
import { Commits } from './commits.ts'
import type { LakeEngine } from './engine.ts'
import { leftOver } from './left-over.ts'
import { MergedTables } from './merged/tables.ts'
import type { ObjectStore } from './object-store.ts'
import { Parquet } from './parquet.ts'
import { tableFolder } from './paths.ts'
import { LakeTables } from './tables.ts'
import type { Writing } from './writing.ts'
import { MERGED, Publication } from './publication.ts'

/** Small files make whoever reads them slow, and each costs its round trips. */
const GATHERING: Gathering = FILES_GATHER

export class LakeTarget implements TargetSide {
  readonly profile: TargetProfile
  readonly gathering = GATHERING
  private readonly store: ObjectStore
  private readonly tables: LakeTables
  private readonly changes: ChangeFiles
  private readonly merged: MergedTables
  private readonly turns = new Turns()
  private commits: Commits | undefined

  constructor(store: ObjectStore, engine: LakeEngine, profile: TargetProfile) {
    const parquet = new Parquet(engine, store.where)
    const numberOf = (folder: string) => (this.commits?.newest?.tables[folder]?.sequence ?? 0) + 1
    this.store = store
    this.tables = new LakeTables(store)
    this.changes = new ChangeFiles(store, parquet, numberOf)
    this.merged = new MergedTables(store, engine, parquet)
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

  load(lane: TargetLane, range: CopyRange, again: boolean, commit: CommitLoad): Promise<void> {
    const inTurn: CommitLoad = (loaded, write) => this.turns.run(() => commit(loaded, write))
    const publish = (checkpoint: Checkpoint, add: (publication: Publication) => Promise<void>) =>
      this.committed(checkpoint, add)
    return isMerged(lane)
      ? this.merged.load(lane, range, again, this.turns, commit, publish)
      : this.changes.load(lane, range, inTurn, publish)
  }

  async begin(): Promise<ApplyTransaction> {
    const end = await this.turns.take()
    const parts = { changes: this.changes.begin(), merged: this.merged.begin() }
    const writings: Writing[] = Object.values(parts)
    let attempted = false
    return {
      apply: async effects => {
        const unfilled = await parts.merged.apply(effects.filter(({ lane }) => isMerged(lane)))
        await parts.changes.apply(effects.filter(({ lane }) => !isMerged(lane)))
        return unfilled
      },
      commit: async checkpoint => {
        await this.committed(
          checkpoint,
          async publication => {
            for (const writing of writings) await writing.publish(publication)
          },
          () => (attempted = true),
        )
        for (const writing of writings) await writing.published()
        end()
      },
      rollback: async () => {
        // Of a commit whose outcome is not known the files must stay; whoever takes the pipeline next removes what is left.
        if (attempted) this.merged.forget()
        else for (const writing of writings) await writing.abort()
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
        this.merged.forget()
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
          for (const [folder, { outline }] of Object.entries(commits.newest!.tables)) {
            if (outline === MERGED) await this.merged.fence(folder, publication)
            else publication.fence(folder)
          }
          await publication.commit()
          await this.merged.committed(publication)
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

  /** Rows of its files: of change files since the last time that all began anew. */
  async count({ table }: TargetLane): Promise<number> {
    const { newest } = this.commits ?? {}
    return newest ? (newest.tables[tableFolder(table)]?.rows ?? 0) : (await this.tables.of(table)).rows
  }

  close(): Promise<void> {
    return this.merged.close()
  }

  /** Whether somebody has made a commit since it was looked. */
  private async hasGoneOn(commits: Commits): Promise<boolean> {
    const before = commits.newest?.id
    await commits.look()
    return commits.newest?.id !== before
  }

  private publish(
    checkpoint: Checkpoint,
    emptied: readonly TargetLane[],
    steps: readonly PrepareStep[],
  ): Promise<void> {
    return this.committed(checkpoint, async publication => {
      for (const step of steps) {
        if (step.step === 'create table' || step.step === 'replace table') {
          const { table, columns, key, files } = step
          if (files?.as === 'merged') await this.merged.prepare(step, publication)
          else await publication.begin(this.store, { table, columns, key, files: files! })
        } else if (step.step === 'alter table') await this.merged.alter(step, publication)
      }
      for (const lane of emptied) {
        if (isMerged(lane)) await this.merged.empty(lane, publication)
        else publication.reset(lane)
      }
    })
  }

  private async committed(
    checkpoint: Checkpoint,
    add: (publication: Publication) => Promise<void>,
    attempt: () => void = () => {},
  ): Promise<void> {
    let { commits } = this
    if (commits?.pipeline !== checkpoint.pipeline) {
      commits = this.commits = new Commits(this.store, checkpoint.pipeline)
      await commits.look()
    }
    const { newest } = commits
    if (newest && newest.epoch > checkpoint.epoch) throw overtaken()
    const publication = new Publication(commits, checkpoint)
    await add(publication)
    attempt()
    try {
      await publication.commit()
    } catch (thrown) {
      this.merged.forget()
      throw thrown
    }
    await this.merged.committed(publication)
  }
}

const isMerged = ({ files }: TargetLane) => files?.as === 'merged'

/** What a step does, as the plan shows it: there are no statements. */
function said(step: PrepareStep): string[] {
  if (step.step === 'create schema') return []
  const folder = tableFolder(step.table)
  if (step.step === 'empty table') return [`${folder}/manifest: the next one says that all begins anew`]
  if (step.step === 'alter table') return [`${folder}: another schema, from the next file on`]
  const { as, format, compress, folders } = step.files!
  const example = folders === '' ? '' : `${foldersOf(folders, '2026-03-09T17:00:00Z')}/`
  const how = `${format}${compress === 'none' ? '' : `, ${compress}`}`
  return [
    `${as === 'merged' ? `${folder}/metadata/…: an Iceberg table; ` : ''}${folder}/data/${example}…: ${how}\n` +
      step.columns.map(({ name, nativeType }) => `  ${name} ${nativeType}`).join('\n'),
  ]
}
