/** Merged tables of a lake, as their pipeline writes them. */
import type { Turns } from '@tide/core/pace/turns'
import type { PrepareStep } from '@tide/core/plan/steps'
import { Failure } from '@tide/core/failure'
import { printName, type DatasetName } from '@tide/core/records/dataset'
import type { CopyRange } from '../../contract/source.ts'
import type { CommitLoad, TargetLane, Unfilled } from '../../contract/target.ts'
import { duckdbFailure } from '../../duckdb/errors.ts'
import type { DuckdbConnection } from '../../duckdb/host.ts'
import type { LakeEngine } from '../engine.ts'
import { LocalFiles } from '../local-files.ts'
import type { ObjectStore } from '../object-store.ts'
import type { Parquet } from '../parquet.ts'
import { hintPath, tableFolder } from '../paths.ts'
import type { Publication } from '../publication.ts'
import type { Publish, Writing } from '../writing.ts'
import { withIds } from './fields.ts'
import { currentSchema, OWN } from './metadata.ts'
import {
  altered,
  begun,
  expiredWith,
  filesOf,
  openMerged,
  withSnapshot,
  type LiveFile,
  type MergedTable,
} from './table.ts'
import { mergedPath, WorkingTable } from './working.ts'

interface Known {
  table: MergedTable
  files: LiveFile[]
}

type Made = Extract<PrepareStep, { step: 'create table' | 'replace table' }>

export class MergedTables {
  private readonly store: ObjectStore
  private readonly engine: LakeEngine
  private readonly parquet: Parquet
  private readonly known = new Map<string, Known>()
  /** What a publication would make of them. */
  private readonly next = new WeakMap<Publication, Map<string, Known>>()
  private local: LocalFiles | undefined

  constructor(store: ObjectStore, engine: LakeEngine, parquet: Parquet) {
    this.store = store
    this.engine = engine
    this.parquet = parquet
  }

  /** They are read anew. */
  forget(): void {
    this.known.clear()
  }

  async prepare({ table, columns, key }: Made, publication: Publication): Promise<void> {
    const folder = tableFolder(table)
    if (this.next.get(publication)?.has(folder)) throw madeTwice(table)
    const before = await openMerged(this.store, folder)
    const whose = before?.metadata.properties[OWN.pipeline]
    if (before && whose !== publication.pipeline)
      throw new Failure(
        'structural',
        `${printName(table)} in ${this.store.where} is written by ${whose === undefined ? 'something else' : `another pipeline, ${whose}`}.`,
        'Name the table otherwise, or move that folder away; then start again.',
      )
    const location = before?.metadata.location ?? this.store.uri(folder)
    const made = begun(folder, location, columns, key, before, Date.now())
    const removed = before ? await filesOf(this.store, before) : []
    await this.put(publication, made, { files: [], added: [], removed })
  }

  async alter(
    alteration: Extract<PrepareStep, { step: 'alter table' }>,
    publication: Publication,
  ): Promise<void> {
    const known = await this.of(tableFolder(alteration.table), publication)
    if (!known) return // change files say themselves what columns they have
    this.note(publication, publication.merged(altered(known.table, alteration), known.files), known.files)
  }

  async empty(lane: TargetLane, publication: Publication): Promise<void> {
    const { table, files } = await this.there(lane, publication)
    await this.put(publication, table, { files: [], added: [], removed: files })
  }

  /** The next version is taken by the same table. */
  async fence(folder: string, publication: Publication): Promise<void> {
    const known = await this.of(folder, publication)
    if (!known) return
    const { table, files } = known
    const metadata = {
      ...table.metadata,
      'last-updated-ms': Math.max(Date.now(), table.metadata['last-updated-ms']),
    }
    this.note(publication, publication.merged({ ...table, metadata }, files), files)
  }

  async load(
    lane: TargetLane,
    { csv }: CopyRange,
    again: boolean,
    turns: Turns,
    commit: CommitLoad,
    publish: Publish,
  ): Promise<void> {
    if (again) return turns.run(() => this.loadOver(lane, csv, commit, publish))
    const { table } = await this.there(lane)
    const schema = currentSchema(table.metadata)
    const path = mergedPath(table, schema['schema-id'])
    const making = this.parquet.begin(lane, lane.columns, lane.files!.compress, withIds(schema))
    let [rows, bytes, taken] = [0, 0, 0]
    let attempted = false
    try {
      await making.csv(counted(csv, size => (taken += size)))
      if (taken > 0)
        rows = await making.finish(body =>
          this.store.put(
            path,
            counted(body, size => (bytes += size)),
          ),
        )
      const added = rows > 0 ? [{ path: path.slice(table.folder.length + 1), rows, bytes }] : []
      await turns.run(() =>
        commit({ rows, bytes: taken }, checkpoint =>
          publish(checkpoint, async publication => {
            const now = await this.there(lane, publication)
            if (added.length > 0)
              await this.put(publication, now.table, { files: now.files, added, removed: [] })
            attempted = true
          }),
        ),
      )
    } catch (thrown) {
      await making.abort()
      if (!attempted) await this.store.remove([path]).catch(() => {}) // whoever takes it next looks for what is left
      throw thrown
    }
  }

  begin(): Writing {
    const working = new Map<string, { lane: TargetLane; table: WorkingTable }>()
    let connection: Promise<DuckdbConnection> | undefined
    const tableOf = async (lane: TargetLane): Promise<WorkingTable> => {
      const folder = tableFolder(lane.table)
      const open = working.get(folder)
      if (open) return open.table
      const table = await this.working(lane, await (connection ??= this.engine.connect()))
      working.set(folder, { lane, table })
      return table
    }
    const end = async () => (await connection?.catch(() => undefined))?.disconnect()
    return {
      apply: async effects => {
        const unfilled: Unfilled[] = []
        try {
          for (const { lane, effect } of effects) {
            const { truncate, markAll, removed, puts } = effect
            if (!truncate && !markAll && removed.length === 0 && puts.length === 0) continue
            for (const put of await (await tableOf(lane)).apply(effect)) unfilled.push({ lane, put })
          }
          return unfilled
        } catch (thrown) {
          throw duckdbFailure(thrown, this.store.where)
        }
      },
      publish: async publication => {
        for (const { table } of working.values())
          if (table.changed) await this.put(publication, table.table, table)
      },
      published: async () => {
        const dropped = [...working.values()].flatMap(({ table }) => table.dropped)
        await this.store.remove(dropped).catch(() => {}) // whoever takes it next looks for what is left
        await end()
      },
      abort: async () => {
        const written = [...working.values()].flatMap(({ table }) => [
          ...table.dropped,
          ...table.added.map(({ path }) => `${table.table.folder}/${path}`),
        ])
        await this.store.remove(written).catch(() => {})
        await end()
      },
    }
  }

  /** The commit has gone through: what it has made of the tables is how they are. */
  async committed(publication: Publication): Promise<void> {
    const next = this.next.get(publication)
    if (!next) return
    for (const [folder, known] of next) {
      const before = this.known.get(folder)
      this.known.set(folder, known)
      // Whoever finds it behind looks forward from it.
      await this.store.replace(hintPath(folder), Buffer.from(String(known.table.version))).catch(() => {})
      // What cannot be removed now is in nobody's way.
      if (before)
        await expiredWith(this.store, before.table, known.table)
          .then(paths => this.store.remove(paths))
          .catch(() => {})
    }
    const live = new Set(
      [...this.known.values()].flatMap(({ table, files }) =>
        files.map(({ path }) => `${table.folder}/${path}`),
      ),
    )
    await this.local?.keep(live)
  }

  async close(): Promise<void> {
    await this.local?.remove()
  }

  private async loadOver(
    lane: TargetLane,
    csv: CopyRange['csv'],
    commit: CommitLoad,
    publish: Publish,
  ): Promise<void> {
    const connection = await this.engine.connect()
    const working = await this.working(lane, connection)
    let attempted = false
    try {
      const loaded = await working.put(csv)
      await commit(loaded, checkpoint =>
        publish(checkpoint, async publication => {
          if (working.changed) await this.put(publication, working.table, working)
          attempted = true
        }),
      )
    } catch (thrown) {
      if (!attempted)
        await this.store
          .remove(working.added.map(({ path }) => `${working.table.folder}/${path}`))
          .catch(() => {})
      throw duckdbFailure(thrown, this.store.where)
    } finally {
      await connection.disconnect()
    }
  }

  private async working(lane: TargetLane, connection: DuckdbConnection): Promise<WorkingTable> {
    const { table, files } = await this.there(lane)
    const staging = await this.engine.staging()
    this.local ??= new LocalFiles(this.store, staging)
    return new WorkingTable({ store: this.store, connection, staging, local: this.local }, lane, table, files)
  }

  private async put(
    publication: Publication,
    before: MergedTable,
    {
      files,
      added,
      removed,
      done,
    }: Pick<WorkingTable, 'files' | 'added' | 'removed'> & Partial<Pick<WorkingTable, 'done'>>,
  ): Promise<void> {
    const made =
      added.length + removed.length === 0
        ? { table: before, files: [...files] }
        : await withSnapshot(
            this.store,
            before,
            { files, added, removed, summary: { ...publication.summary, ...(done ? counts(done) : {}) } },
            Date.now(),
          )
    this.note(publication, publication.merged(made.table, made.files), made.files)
  }

  private note(publication: Publication, table: MergedTable, files: LiveFile[]): void {
    const next = this.next.get(publication) ?? new Map<string, Known>()
    next.set(table.folder, { table, files })
    this.next.set(publication, next)
  }

  private async there(lane: TargetLane, publication?: Publication): Promise<Known> {
    const known = await this.of(tableFolder(lane.table), publication)
    if (known) return known
    throw new Failure(
      'structural',
      `${printName(lane.table)} is not there any more in ${this.store.where}.`,
      'Was its folder removed? Start again: it is made and copied anew.',
    )
  }

  private async of(folder: string, publication?: Publication): Promise<Known | undefined> {
    const found = (publication && this.next.get(publication)?.get(folder)) ?? this.known.get(folder)
    if (found) return found
    const table = await openMerged(this.store, folder)
    if (!table) return undefined
    const known = { table, files: await filesOf(this.store, table) }
    this.known.set(folder, known)
    return known
  }
}

export function madeTwice(table: DatasetName): Failure {
  return new Failure(
    'structural',
    `${printName(table)} would be made twice.`,
    'Name one of the two otherwise.',
  )
}

function counts({ put, gone }: WorkingTable['done']): Record<string, string> {
  return { [OWN.put]: String(put), [OWN.gone]: String(gone) }
}

async function* counted(
  body: AsyncIterable<Uint8Array> | Iterable<Uint8Array>,
  tell: (bytes: number) => void,
): AsyncGenerator<Uint8Array> {
  for await (const part of body) {
    tell(part.length)
    yield part
  }
}
