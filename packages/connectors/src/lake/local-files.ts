/** Files of a lake where DuckDB can read them: where they lie, or brought there for a question. */
import { Failure } from '@tide/core/failure'
import { randomUUID } from 'node:crypto'
import { rm } from 'node:fs/promises'
import { basename, join } from 'node:path'
import type { ObjectStore } from './object-store.ts'

/** So many are brought for one question, at most. */
const MOST_FILES = 2_000
const AT_ONCE = 8

export class LocalFiles {
  private readonly store: ObjectStore
  private readonly folder: string
  private readonly brought = new Map<string, string>()

  constructor(store: ObjectStore, folder: string) {
    this.store = store
    this.folder = folder
  }

  /** Where each of them is then. */
  async bring(paths: readonly string[]): Promise<(path: string) => string> {
    const { local } = this.store
    if (local) return path => this.store.local!(path)
    const missing = paths.filter(path => !this.brought.has(path))
    if (this.brought.size + missing.length > MOST_FILES)
      throw new Failure(
        'refused',
        `The question is about ${paths.length.toLocaleString('en')} files of ${this.store.where}; at most ${MOST_FILES.toLocaleString('en')} are brought here for one.`,
        'Ask about one table at a time, or let files become larger by a longer wait.',
      )
    const work = missing.values()
    await Promise.all(
      Array.from({ length: AT_ONCE }, async () => {
        for (const path of work) {
          const to = join(this.folder, `${randomUUID()}-${basename(path)}`)
          await this.store.fetch(path, to)
          this.brought.set(path, to)
        }
      }),
    )
    return path => this.brought.get(path)!
  }

  /** All but these go. */
  async keep(paths: ReadonlySet<string>): Promise<void> {
    for (const [path, file] of this.brought) {
      if (paths.has(path)) continue
      this.brought.delete(path)
      await rm(file, { force: true })
    }
  }

  async remove(): Promise<void> {
    for (const file of this.brought.values()) await rm(file, { force: true })
    this.brought.clear()
  }
}
