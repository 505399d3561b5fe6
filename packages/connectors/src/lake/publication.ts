/** What a commit publishes: of each table that it touches one manifest, and a schema where that is another. */
import type { Checkpoint } from '@tide/core/checkpoint/checkpoint'
import { canonicalJson } from '@tide/core/definition/canonical-json'
import type { LandedFiles } from '@tide/core/definition/files'
import { Failure } from '@tide/core/failure'
import type { Column } from '@tide/core/records/column'
import { printName, type DatasetName } from '@tide/core/records/dataset'
import { randomUUID } from 'node:crypto'
import type { TargetLane } from '../contract/target.ts'
import type { Commit, Commits, TableState } from './commits.ts'
import type { DataFile, Manifest, TableSchema } from './manifest.ts'
import type { ObjectStore } from './object-store.ts'
import { OWN, type Metadata } from './merged/metadata.ts'
import type { MergedTable } from './merged/table.ts'
import { manifestPath, metadataPath, schemaPath, tableFolder } from './paths.ts'
import { newestManifest } from './read-manifests.ts'

/** A table before its first row. */
export interface Prepared {
  table: DatasetName
  columns: readonly Column[]
  key: readonly string[]
  files: LandedFiles
}

type Span = { first: string | null; last: string | null }

/** The outline of tables that say themselves what they are. */
export const MERGED = 'merged'

const NOTHING: TableState = { sequence: 0, schema: 0, outline: '', rows: 0, bytes: 0, files: 0 }

export class Publication {
  private readonly commits: Commits
  private readonly checkpoint: Checkpoint
  private readonly id = randomUUID()
  private readonly tables: Commit['tables']
  private readonly publish: Commit['publish'] = []

  constructor(commits: Commits, checkpoint: Checkpoint) {
    this.commits = commits
    this.checkpoint = checkpoint
    this.tables = { ...commits.newest?.tables }
  }

  get pipeline(): string {
    return this.checkpoint.pipeline
  }

  /** Begins a table, or begins anew with one: what its files have so far is of no more use. */
  async begin(store: ObjectStore, { table, columns, key, files }: Prepared): Promise<void> {
    const folder = tableFolder(table)
    const there = await newestManifest(store, folder)
    const { pipeline } = this.checkpoint
    if (there && there.pipeline !== pipeline)
      throw new Failure(
        'structural',
        `${printName(table)} in ${store.where} is written by another pipeline, ${there.pipeline}.`,
        'Name the table otherwise, or move that folder away; then start again.',
      )
    const known = this.tables[folder]
    if (there)
      this.tables[folder] = {
        ...(known ?? NOTHING),
        sequence: there.sequence,
        schema: Math.max(there.schema, known?.schema ?? 0),
      }
    this.manifest({ table, key, columns, files }, 'none', [], { first: null, last: null }, true)
  }

  add(lane: TargetLane, kind: 'copy' | 'changes', files: readonly DataFile[], span: Span): void {
    this.manifest(written(lane), kind, files, span, false)
  }

  /** All of the lane's rows begin anew. */
  reset(lane: TargetLane): void {
    this.manifest(written(lane), 'none', [], { first: null, last: null }, true)
  }

  /** The next version of a merged table, whose metadata follows the one of `table`. */
  merged(table: MergedTable, files: readonly { rows: number; bytes: number }[]): MergedTable {
    const { folder, version, metadata } = table
    const { pipeline, epoch } = this.checkpoint
    const body: Metadata = {
      ...metadata,
      properties: { ...metadata.properties, [OWN.pipeline]: pipeline, [OWN.epoch]: String(epoch) },
    }
    const sequence = version + 1
    this.publish.push({ path: metadataPath(folder, sequence), body })
    this.tables[folder] = {
      sequence,
      schema: metadata['current-schema-id'],
      outline: MERGED,
      rows: files.reduce((sum, { rows }) => sum + rows, 0),
      bytes: files.reduce((sum, { bytes }) => sum + bytes, 0),
      files: files.length,
    }
    return { folder, version: sequence, metadata: body }
  }

  /** What the summary of a snapshot says of where it is from. */
  get summary(): Record<string, string> {
    const [stream] = this.checkpoint.streams
    return {
      [OWN.commit]: this.id,
      [OWN.position]: stream!.position.at,
      [OWN.completeUpTo]: stream!.completeUpTo,
    }
  }

  /** The table's next number is taken by nothing. */
  fence(folder: string): void {
    const state = this.tables[folder]!
    if (state.outline === MERGED) throw new Error(`${folder} has versions, and no manifests of ours`)
    const last = JSON.parse(state.outline) as Pick<Manifest, 'format' | 'compress'>
    this.next(folder, state, 'none', [], { first: null, last: null }, false, last)
  }

  async commit(): Promise<void> {
    await this.commits.append(this.id, this.checkpoint, this.tables, this.publish)
  }

  private manifest(
    { table, columns, key, files: { as, format, compress } }: Prepared,
    kind: Manifest['kind'],
    files: readonly DataFile[],
    span: Span,
    reset: boolean,
  ): void {
    const folder = tableFolder(table)
    let state = this.tables[folder] ?? NOTHING
    const shown = columns.map(({ name, type, nativeType }) => ({ name, type, nativeType }))
    const outline = canonicalJson({ as, format, compress, key, columns: shown })
    if (state.outline !== outline) {
      const id = state.schema + 1
      const body: TableSchema = { version: 1, id, table, as, key: [...key], columns: shown }
      this.publish.push({ path: schemaPath(folder, id), body })
      state = { ...state, schema: id, outline }
    }
    this.next(folder, state, kind, files, span, reset, { format, compress })
  }

  private next(
    folder: string,
    state: TableState,
    kind: Manifest['kind'],
    files: readonly DataFile[],
    { first, last }: Span,
    reset: boolean,
    how: Pick<Manifest, 'format' | 'compress'>,
  ): void {
    const sequence = state.sequence + 1
    const rows = files.reduce((sum, file) => sum + file.rows, 0)
    const before = reset ? NOTHING : state
    const total = {
      rows: before.rows + rows,
      bytes: before.bytes + files.reduce((sum, { bytes }) => sum + bytes, 0),
      files: before.files + files.length,
    }
    const [stream] = this.checkpoint.streams
    const body: Manifest = {
      version: 1,
      sequence,
      commit: this.id,
      pipeline: this.checkpoint.pipeline,
      epoch: this.checkpoint.epoch,
      kind,
      reset,
      schema: state.schema,
      format: how.format,
      compress: how.compress,
      position: stream!.position.at,
      completeUpTo: stream!.completeUpTo,
      firstCommit: first,
      lastCommit: last,
      landedAt: new Date().toISOString(),
      rows,
      files: [...files],
      total,
    }
    this.publish.push({ path: manifestPath(folder, sequence), body })
    this.tables[folder] = { ...state, sequence, ...total }
  }
}

function written({ table, key, files, changes, columns }: TargetLane): Prepared {
  return { table, key, files: files!, columns: changes ?? columns }
}
