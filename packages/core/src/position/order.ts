import { compareBinlog } from './binlog.ts'
import { compareFilePlaces } from './files.ts'
import { parseLsn } from './lsn.ts'
import type { Position, PositionOrder } from './position.ts'
import { compareCursorPlaces } from './cursor.ts'
import { comparePlaces } from './snapshot.ts'

/** Where `a` stands to `b`. */
export function comparePositions(a: Position, b: Position): PositionOrder {
  if (a.kind !== b.kind || a.incarnation !== b.incarnation) return 'unknown'
  return compareWithin(a.kind, a.at, b.at)
}

/** The same for two positions of one kind and incarnation, as they are printed. */
export function compareWithin(kind: string, a: string, b: string): PositionOrder {
  switch (kind) {
    case 'postgres log': {
      const [left, right] = [parseLsn(a), parseLsn(b)]
      return left < right ? 'before' : left > right ? 'after' : 'same'
    }
    case 'binlog': {
      const order = compareBinlog(a, b)
      return order < 0 ? 'before' : order > 0 ? 'after' : 'same'
    }
    case 'postgres change table':
      return comparePlaces(a, b)
    case 'files':
      return compareFilePlaces(a, b)
    case 'postgres cursor':
      return compareCursorPlaces(a, b)
    default:
      return a === b ? 'same' : 'unknown'
  }
}
