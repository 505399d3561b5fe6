/** Lines of a pipeline's log that are told only while somebody wants details: kept together, since there may be hundreds a second. */
import type { LogEntry } from '@tide/core/definition/log'
import type { HistoryRepository, Surroundings } from './repositories.ts'

const TOGETHER_MS = 500
/** So many wait to be written; of more it is said how many they were. */
const MOST_WAITING = 2_000

export class Details {
  private readonly history: Pick<HistoryRepository, 'log'>
  private readonly surroundings: Pick<Surroundings, 'now' | 'sleep'>
  private until = 0
  private waiting: LogEntry[] = []
  private leftOut = 0
  private writing: Promise<void> | undefined
  private readonly over = new AbortController()

  constructor(
    history: Pick<HistoryRepository, 'log'>,
    surroundings: Pick<Surroundings, 'now' | 'sleep'>,
    until: string | null,
  ) {
    this.history = history
    this.surroundings = surroundings
    this.tellUntil(until)
  }

  /** ISO 8601; null: from now on they are not told. */
  tellUntil(until: string | null): void {
    this.until = until === null ? 0 : Date.parse(until)
  }

  /** Whether they are wanted now. */
  get wanted(): boolean {
    return this.surroundings.now() < this.until
  }

  add(entry: Omit<LogEntry, 'level' | 'at'>): void {
    if (this.waiting.length >= MOST_WAITING) {
      this.leftOut++
      return
    }
    this.waiting.push({ ...entry, level: 'detail', at: new Date(this.surroundings.now()).toISOString() })
    this.writing ??= this.write().finally(() => (this.writing = undefined))
  }

  /** When all is written. */
  async end(): Promise<void> {
    this.over.abort()
    await this.writing
  }

  private async write(): Promise<void> {
    while (this.waiting.length > 0) {
      await this.surroundings.sleep(TOGETHER_MS, this.over.signal)
      const [lines, leftOut] = [this.waiting, this.leftOut]
      this.waiting = []
      this.leftOut = 0
      const last = lines.at(-1)!
      const more = { ...last, lanes: [], message: `${leftOut} more details came at once than can be kept.` }
      await this.history.log(...lines, ...(leftOut > 0 ? [more] : [])).catch(() => {})
    }
  }
}
