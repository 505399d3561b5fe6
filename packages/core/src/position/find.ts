/** Positions in what people paste: a line of a log, an answer of the source's own tools, or just a position. */
import { parseBinlog } from './binlog.ts'
import { parseCursorPlace } from './cursor.ts'
import { parseLsn } from './lsn.ts'
import { parsePlace, parseSnapshot } from './snapshot.ts'

/** Where to: the first transaction committed at this time or later (ISO 8601), or a position as the source prints it. */
export type PlaceAsked = { time: string } | { position: string }

/** What somebody has written: a time, if it is one, else a position. */
export function placeAsked(text: string): PlaceAsked {
  const written = text.trim()
  return /^\d{4}-\d\d-\d\d/.test(written) ? { time: written } : { position: written }
}

interface Printed {
  /** Throws on what is no position. */
  parse(text: string): unknown
  /** Prints where the source stands now. */
  statement: string
  /** Each position in a text, as this product prints it. */
  find(text: string): string[]
}

const KINDS: Record<string, Printed> = {
  'postgres log': {
    parse: parseLsn,
    statement: 'SELECT pg_current_wal_lsn();',
    find: text =>
      [...text.matchAll(/(?<![\w/])([0-9A-F]{1,8}\/[0-9A-F]{1,8})(?![\w/])/gi)].map(([, lsn]) =>
        lsn!.toUpperCase(),
      ),
  },
  // The server's own tools put the offset in another column, or behind a comma.
  binlog: {
    parse: parseBinlog,
    statement: 'SHOW MASTER STATUS;',
    find: text =>
      [...text.matchAll(/([\w.-]*[A-Za-z][\w.-]*\.\d{6,})(?:[\s|,:]|Pos(?:ition)?:)+(\d+)(?!\d)/g)].map(
        ([, file, offset]) => `${file}:${offset}`,
      ),
  },
  'postgres change table': {
    parse: parsePlace,
    statement: 'SELECT pg_current_snapshot();',
    find: text =>
      [...text.matchAll(/(?<![\d:])(\d+:\d+:(?:\d+(?:,\d+)*)?)(?![\d:])/g)]
        .map(([, snapshot]) => snapshot!)
        .filter(isSnapshot),
  },
  'postgres cursor': {
    parse: parseCursorPlace,
    statement: 'SELECT now();',
    find: text =>
      [...text.matchAll(/\d{4}-\d\d-\d\d[ T]\d\d:\d\d:\d\d(?:\.\d+)?(?:Z|[+-]\d\d(?::?\d\d)?)/g)].map(
        ([time]) => canonicalTime(time),
      ),
  },
}

/** What to paste at the source to learn where it stands now; undefined where nothing prints that. */
export function presentPositionStatement(kind: string): string | undefined {
  return KINDS[kind]?.statement
}

/** The positions of a source's kind in a text, each once, in the order in which they stand there. */
export function findPositions(kind: string, text: string): string[] {
  const printed = KINDS[kind]
  if (!printed) return []
  const whole = text.trim()
  return isWhole(printed, whole) ? [whole] : [...new Set(printed.find(text))]
}

function isWhole({ parse }: Printed, text: string): boolean {
  try {
    parse(text)
    return true
  } catch {
    return false
  }
}

/** A clock time looks like one; no server is so young that its transactions have two digits. */
function isSnapshot(text: string): boolean {
  if (/^\d\d:\d\d:\d\d$/.test(text)) return false
  const { xmin, xmax, inProgress } = parseSnapshot(text)
  return xmin > 0n && xmin <= xmax && [...inProgress].every(xid => xid >= xmin && xid < xmax)
}

/** In UTC, with microseconds. */
function canonicalTime(text: string): string {
  const [, day, time, fraction = '', zone] = /^(\S{10})[ T]([\d:]{8})(?:\.(\d+))?(.*)$/.exec(text)!
  const offset = zone === 'Z' ? 'Z' : zone!.replace(/^([+-]\d\d):?(\d\d)?$/, (_, h, m) => `${h}:${m ?? '00'}`)
  const seconds = new Date(`${day}T${time}${offset}`).toISOString().slice(0, 19)
  return `${seconds}.${fraction.padEnd(6, '0').slice(0, 6)}Z`
}
