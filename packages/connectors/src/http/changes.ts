/** Which records of an object have changed since, where its list can be asked for those. */
import { createHash } from 'node:crypto'
import type { AppRecord, Changed } from '../contract/app.ts'

/** What was told up to now; as text it is the cursor. */
interface Told {
  /** The latest time of a change that was told, as the app writes it. */
  at: string
  /** Of records that are asked for again, by key: what was told of them. */
  seen: Record<string, string>
  /** When we were first told of that time, in milliseconds of our clock. */
  sinceMs?: number
  /** Nothing earlier can come any more: all was asked for once the overlap was over. */
  settled?: true
}

/**
 * Whatever bears an earlier time than the cursor may still come: of records that the app was writing, and of others with the same time. So a while
 * before the cursor is asked for again, and what was told already is left out. Once that was done after the overlap was over, only what is not earlier
 * than the cursor is asked for, so that a burst of changes is not read again and again while nothing comes.
 */
export class Changes {
  private readonly key: string
  private readonly field: string
  private readonly before: Told | undefined
  private readonly overlapMs: number
  private readonly nowMs: number
  private at: string | undefined
  private readonly digests = new Map<string, { at: string; digest: string }>()

  constructor(
    { key, field, overlapMs }: { key: string; field: string; overlapMs: number },
    cursor: string | null,
    nowMs: number,
  ) {
    this.nowMs = nowMs
    this.key = key
    this.field = field
    this.overlapMs = overlapMs
    this.before = cursor === null ? undefined : (JSON.parse(cursor) as Told)
    this.at = this.before?.at
  }

  /** From when on records are asked for; undefined: all. */
  get since(): string | undefined {
    return this.before && moved(this.before.at, this.before.settled ? 0 : -this.overlapMs)
  }

  /** Those of a page that were not told yet. */
  fresh(page: readonly AppRecord[]): Changed[] {
    return page.flatMap(record => {
      const id = record[this.key]
      const at = record[this.field] ?? ''
      if (!id) return []
      if (Date.parse(at) > Date.parse(this.at ?? '') || this.at === undefined)
        this.at = at === '' ? this.at : at
      const digest = digestOf(record)
      this.digests.set(id, { at, digest })
      return this.before?.seen[id] === digest ? [] : [{ id, record }]
    })
  }

  /** Once all pages were told. */
  get cursor(): string | null {
    const { at, before } = this
    if (at === undefined) return null
    const stays = before?.at === at
    const sinceMs = (stays ? before.sinceMs : undefined) ?? this.nowMs
    const settled = stays && (before.settled || this.nowMs - sinceMs > this.overlapMs)
    const from = Date.parse(moved(at, -this.overlapMs))
    const seen = [...this.digests].flatMap(([id, told]) =>
      Date.parse(told.at) >= from ? [[id, told.digest] as const] : [],
    )
    // What was not asked for this time was told before, and may be asked for again.
    const known = before?.settled ? before.seen : {}
    const told: Told = { at, seen: { ...known, ...Object.fromEntries(seen) }, sinceMs }
    return JSON.stringify(settled ? { ...told, settled: true } : told)
  }
}

function digestOf(record: AppRecord): string {
  return createHash('sha256').update(JSON.stringify(record)).digest('base64').slice(0, 16)
}

function moved(time: string, byMs: number): string {
  return new Date(Date.parse(time) + byMs).toISOString()
}
