/**
 * The commits of a pipeline at a lake. A commit is one small file that can be made only once; it holds the checkpoint and all
 * that is published with it, so that several tables are published together or not at all: whoever finds it publishes what of it
 * is not yet there (docs/decisions/0033).
 */
import { checkpointOf, checkpointRow, type Checkpoint } from '@tide/core/checkpoint/checkpoint'
import { Failure } from '@tide/core/failure'
import { Type, type Static } from 'typebox'
import { overtaken } from '../checkpoint.ts'
import { jsonBytes, jsonOf } from './manifest.ts'
import type { ObjectStore } from './object-store.ts'
import { commitPath, commitsFolder, sequenceOf } from './paths.ts'

const tableStateSchema = Type.Object({
  /** Of its newest manifest. */
  sequence: Type.Integer(),
  schema: Type.Integer(),
  /** What the schema file says, to see whether another is needed. */
  outline: Type.String(),
  rows: Type.Integer(),
  bytes: Type.Integer(),
  files: Type.Integer(),
})

const commitSchema = Type.Object({
  version: Type.Literal(1),
  id: Type.String(),
  pipeline: Type.String(),
  epoch: Type.Integer(),
  /** Null: the pipeline was stopped, and its tables stay. */
  checkpoint: Type.Union([
    Type.Object({
      epoch: Type.String(),
      position: Type.String(),
      completeUpTo: Type.String(),
      lanes: Type.String(),
      consistent: Type.Boolean(),
    }),
    Type.Null(),
  ]),
  /** By the tables' folders. */
  tables: Type.Record(Type.String(), tableStateSchema),
  /** Files that can be made only once, too. */
  publish: Type.Array(Type.Object({ path: Type.String(), body: Type.Unknown() })),
})

export type TableState = Static<typeof tableStateSchema>
export type Commit = Static<typeof commitSchema>

/** So many stay there behind the newest. */
const KEPT = 20

export class Commits {
  private readonly store: ObjectStore
  readonly pipeline: string
  /** Of the newest; 0: there is none. */
  private sequence = 0
  private oldest = 1
  newest: Commit | undefined

  constructor(store: ObjectStore, pipeline: string) {
    this.store = store
    this.pipeline = pipeline
  }

  /** Looks for the newest. */
  async look(): Promise<Commit | undefined> {
    let [first, last] = [0, 0]
    for await (const path of this.store.list(commitsFolder(this.pipeline))) {
      const sequence = sequenceOf(path)
      if (sequence === undefined) continue
      if (first === 0) first = sequence
      last = Math.max(last, sequence)
    }
    this.sequence = last
    this.oldest = Math.max(1, first)
    this.newest = last === 0 ? undefined : await this.read(last)
    return this.newest
  }

  get checkpoint(): Checkpoint | undefined {
    const { checkpoint } = this.newest ?? {}
    return checkpoint ? checkpointOf(this.pipeline, checkpoint) : undefined
  }

  /** Makes the next one and publishes what it says. Fails, and nothing is done, where somebody else has made it. */
  async append(
    id: string,
    checkpoint: Checkpoint | { epoch: number; streams: null },
    tables: Commit['tables'],
    publish: Commit['publish'],
  ): Promise<void> {
    const commit: Commit = {
      version: 1,
      id,
      pipeline: this.pipeline,
      epoch: checkpoint.epoch,
      checkpoint: checkpoint.streams === null ? null : checkpointRow(checkpoint as Checkpoint),
      tables,
      publish,
    }
    const sequence = this.sequence + 1
    const path = commitPath(this.pipeline, sequence)
    const body = jsonBytes(commit)
    // What is there may be ours, made by a try whose answer was lost.
    if (!(await this.store.create(path, body)) && !same(await this.store.read(path), body)) throw overtaken()
    this.sequence = sequence
    this.newest = commit
    await this.publish()
    await this.removeOld()
  }

  /** Publishes what of the newest commit is not there yet. */
  async publish(): Promise<void> {
    for (const { path, body } of this.newest?.publish ?? []) {
      const bytes = jsonBytes(body as object)
      if (await this.store.create(path, bytes)) continue
      if (same(await this.store.read(path), bytes)) continue
      throw new Failure(
        'structural',
        `${this.store.where}: somebody else has written ${path}, which this pipeline was about to write.`,
        'Does another installation write the same tables? Let one of them write; then start again: all is copied anew behind what is there.',
      )
    }
  }

  private async read(sequence: number): Promise<Commit> {
    const path = commitPath(this.pipeline, sequence)
    const commit = jsonOf(commitSchema, await this.store.read(path))
    if (commit) return commit
    throw new Failure(
      'structural',
      `${this.store.where}: ${path} cannot be read: a later version has written it, or somebody else.`,
      'Use the version that has written it, or remove the file and start again: the tables are copied anew.',
    )
  }

  private async removeOld(): Promise<void> {
    const upTo = this.sequence - KEPT
    if (upTo < this.oldest + KEPT) return
    const old = Array.from({ length: upTo - this.oldest + 1 }, (_, i) =>
      commitPath(this.pipeline, this.oldest + i),
    )
    // The next one tries it again.
    await this.store.remove(old).then(
      () => (this.oldest = upTo + 1),
      () => {},
    )
  }
}

function same(there: Uint8Array | undefined, body: Uint8Array): boolean {
  return there !== undefined && Buffer.compare(there, body) === 0
}
