/** What was heard of a source while its changes are read into the journal: its clock, its head, how far all is there. */
import type { LogSink } from '@tide/connectors/contract/source'
import type { Journal } from '@tide/journal/journal'
import type { Surroundings } from '../repositories.ts'

/** How often an idle source's position is kept, so that it can let go of its log. */
const MARK_MS = 5_000
/** What was heard longer ago says nothing about now. */
const HEARD_HOLDS_MS = 5_000

/** How far the journal is known to hold what the source has committed; times in microseconds since 1970. */
export interface SourceClock {
  /** The source's clock, counted on since it was last heard; null when that is too long ago. */
  now: number | null
  /** Everything committed up to here is in the journal; null when that is not known. */
  completeAt: number | null
}

export class Heard {
  /** Where the source's own log ended. */
  head: string | undefined
  /** By how much the source tells late, by its way of looking. */
  lateMs = 0
  private readonly now: Surroundings['now']
  private at: { source: number; here: number } | undefined
  private completeAt: number | null = null
  private marked = 0

  constructor(now: Surroundings['now']) {
    this.now = now
  }

  get clock(): SourceClock {
    const { at, completeAt } = this
    const here = this.now()
    const fresh = at && here - at.here < HEARD_HOLDS_MS + this.lateMs
    return { now: fresh ? at.source + (here - at.here) * 1000 : null, completeAt }
  }

  /** Into the journal, and listening; `answered` is called whenever the source was heard. */
  sink(journal: Journal, answered: () => void): LogSink {
    const { appender } = journal
    return {
      relation: relation => appender.relation(relation),
      begin: (start, at, id) => appender.begin(start, at, id),
      insert: (relation, after) => appender.insert(relation, after),
      update: (relation, before, after) => appender.update(relation, before, after),
      remove: (relation, before) => appender.remove(relation, before),
      truncate: relation => appender.truncate(relation),
      commit: end => appender.commit(end),
      heard: (at, head) => {
        if (head) this.head = head
        this.at = { source: at, here: this.now() }
        answered()
      },
      reached: (position, at) => {
        appender.whenDurable(() => (this.completeAt = at))
        if (this.now() - this.marked < MARK_MS) return
        this.marked = this.now()
        appender.mark(position)
      },
      get full() {
        return appender.full
      },
      room: () => appender.room(),
      durable: () => journal.end.at,
    }
  }
}
