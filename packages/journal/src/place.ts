/** Places in a journal by time or by position: always between two transactions. */
import { open } from 'node:fs/promises'
import { EntryCursor } from './entries.ts'
import type { Journal } from './journal.ts'
import { FrameReader, segmentFile, type IndexEntry, type Segment } from './segment.ts'

/** A place to go on reading from, and the first transaction that follows it. */
export interface Place {
  position: string
  /** `at`: when it was committed, in microseconds since 1970. Null at the journal's end. */
  next: { start: string; at: number } | null
}

/** Behind which everything was committed at this time or later; microseconds since 1970. */
export function placeAtTime(journal: Journal, time: number): Promise<Place> {
  const place = entryBefore(journal, ({ at }) => at < time)
  return firstThat(journal, place, ({ at }) => at >= time)
}

/** Behind which everything starts at this position or later. Throws when it is none of this journal's kind. */
export function placeAtPosition(journal: Journal, position: string): Promise<Place> {
  const place = entryBefore(journal, entry => !journal.isAfter(entry.position, position))
  return firstThat(journal, place, ({ start }) => !journal.isAfter(position, start))
}

/**
 * The last place of the index that lies before what is looked for, as all places before it do. Commit times in a log are
 * not quite in order; those of the index are (see `noteFrame`).
 */
function entryBefore(
  { segments }: Journal,
  isBefore: (entry: IndexEntry) => boolean,
): { segment: Segment; entry: IndexEntry } {
  const at = lastIndex(segments, ({ index }) => isBefore(index[0]!))
  const segment = segments[Math.max(0, at)]!
  return { segment, entry: segment.index[Math.max(0, lastIndex(segment.index, isBefore))]! }
}

/** Of items of which the first ones are so and the rest are not, the last one that is so; -1 for none. */
function lastIndex<T>(items: readonly T[], is: (item: T) => boolean): number {
  let [from, to] = [0, items.length]
  while (from < to) {
    const middle = (from + to) >> 1
    if (is(items[middle]!)) from = middle + 1
    else to = middle
  }
  return from - 1
}

async function firstThat(
  journal: Journal,
  { segment, entry }: { segment: Segment; entry: IndexEntry },
  isIt: (begun: { start: string; at: number }) => boolean,
): Promise<Place> {
  let position = entry.position
  for (const one of journal.segments.filter(({ number }) => number >= segment.number)) {
    if (one.bytes === 0) continue
    const { bytes } = one
    const file = await open(segmentFile(journal.folder, one.number), 'r')
    try {
      const frames = new FrameReader(file, one === segment ? entry.offset : 0)
      for (let frame = await frames.next(bytes); frame; frame = await frames.next(bytes)) {
        const cursor = new EntryCursor(frame.entries)
        for (let kind = cursor.next(); kind; kind = cursor.next()) {
          if (kind === 'commit') position = cursor.committed
          else if (kind === 'begin' && isIt(cursor.begun)) {
            const { start, at } = cursor.begun
            return { position, next: { start, at } }
          }
        }
        if (frame.whole && journal.isAfter(frame.position, position)) position = frame.position
      }
    } finally {
      await file.close()
    }
  }
  return { position, next: null }
}
