import type { ObjectStore } from '../object-store.ts'
import { keepBeside } from './kept-beside.ts'
import { linesPath } from '../paths.ts'

/**
 * How many lines of each file were told, kept beside the files: of one that has fewer by now, the others are told to be gone. Where nothing
 * can be written there, it is known only as long as the reader lives.
 */
export class LineCounts {
  private readonly store: ObjectStore
  private readonly path: string
  /** One for all who ask, also while it is read. */
  private counts: Promise<Record<string, number>> | undefined
  private saved = ''

  constructor(store: ObjectStore, reader: string, what: 'copy' | 'follow') {
    this.store = store
    this.path = linesPath(reader, what)
  }

  async of(file: string): Promise<number> {
    return (await this.all())[file] ?? 0
  }

  /** At least so many were told. */
  async note(file: string, lines: number): Promise<void> {
    const counts = await this.all()
    counts[file] = Math.max(counts[file] ?? 0, lines)
  }

  async save(): Promise<void> {
    const text = JSON.stringify(await this.all())
    if (text === this.saved) return
    await keepBeside(this.store, this.path, text)
    this.saved = text
  }

  async forget(): Promise<void> {
    await this.store.remove([this.path]).catch(() => {})
  }

  private all(): Promise<Record<string, number>> {
    return (this.counts ??= this.read())
  }

  private async read(): Promise<Record<string, number>> {
    const read = await this.store.read(this.path)
    let kept: unknown
    try {
      kept = read && JSON.parse(Buffer.from(read).toString())
    } catch {
      kept = undefined // nobody's work of ours
    }
    const entries = Object.entries(Object(kept) as object).filter(
      (entry): entry is [string, number] => typeof entry[1] === 'number',
    )
    return Object.fromEntries(entries)
  }
}
