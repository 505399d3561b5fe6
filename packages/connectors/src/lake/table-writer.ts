/** Puts a table's rows into files: one for each folder that they belong into, and another when one has become large. */
import { foldersOf } from '@tide/core/definition/files'
import type { PackedRow } from '@tide/core/records/tuple'
import { packedValue } from '@tide/core/records/tuple'
import type { TargetLane } from '../contract/target.ts'
import { openDataFile, type OpenDataFile } from './data-file.ts'
import type { DataFile } from './manifest.ts'
import type { ObjectStore } from './object-store.ts'
import type { Parquet } from './parquet.ts'

/** Before they are compressed. */
const LARGEST_FILE_BYTES = 256 * 2 ** 20
/** So many folders are written at once, at most. */
const MOST_OPEN = 32

export interface TableWriterSettings {
  store: ObjectStore
  parquet: Parquet
  folder: string
  sequence: number
  lane: TargetLane
  kind: 'copy' | 'changes'
}

export class TableWriter {
  private readonly settings: TableWriterSettings
  private readonly open = new Map<string, OpenDataFile>()
  private readonly finished: DataFile[] = []
  private readonly paths: string[] = []
  private readonly committedAt: number
  /** When the oldest and the newest change were committed, as canonical text. */
  readonly span: { first: string | null; last: string | null } = { first: null, last: null }

  constructor(settings: TableWriterSettings) {
    this.settings = settings
    this.committedAt = settings.lane.changes!.findIndex(({ value }) => value.from === 'committed at')
  }

  async put(rows: Iterable<PackedRow>, landedAt: string): Promise<void> {
    const { folders } = this.settings.lane.files!
    if (folders === '' && this.settings.kind === 'copy') return this.putInto('', rows)
    // Rows come in the order of their commits, so that those of one folder come together.
    let [within, together]: [string, PackedRow[]] = ['', []]
    for (const row of rows) {
      const at = packedValue(row, this.committedAt) ?? null
      if (at !== null) {
        this.span.first ??= at
        this.span.last = at
      }
      const own = folders === '' ? '' : foldersOf(folders, at ?? landedAt)
      if (own !== within && together.length > 0) {
        await this.putInto(within, together)
        together = []
      }
      within = own
      together.push(row)
    }
    if (together.length > 0) await this.putInto(within, together)
  }

  async finish(): Promise<DataFile[]> {
    for (const within of [...this.open.keys()]) await this.close(within)
    return this.finished
  }

  /** What has been written goes. */
  async abort(): Promise<void> {
    for (const file of this.open.values()) await file.abort().catch(() => {}) // why it ended is told
    this.open.clear()
    await this.settings.store.remove(this.paths).catch(() => {}) // whoever comes next looks for what is left
  }

  private async putInto(within: string, rows: Iterable<PackedRow>): Promise<void> {
    let file = this.open.get(within)
    if (!file) {
      const [oldest] = this.open.keys()
      if (this.open.size >= MOST_OPEN) await this.close(oldest!)
      const { store, parquet, folder, sequence, lane } = this.settings
      file = openDataFile({ store, folder, within, sequence }, lane, lane.files!, lane.changes!, parquet)
      this.open.set(within, file)
      this.paths.push(file.path)
    }
    await file.put(rows)
    if (file.bytes >= LARGEST_FILE_BYTES) await this.close(within)
  }

  private async close(within: string): Promise<void> {
    const file = this.open.get(within)!
    const told = await file.finish()
    this.open.delete(within)
    if (told.rows === 0) await this.settings.store.remove([file.path])
    else this.finished.push(told)
  }
}
