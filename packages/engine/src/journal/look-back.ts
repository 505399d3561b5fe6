/** Looks into a journal for places to go on from, and for what lies between two of them. Nothing is changed. */
import type { PlaceAsked } from '@tide/core/position/find'
import { Failure } from '@tide/core/failure'
import { comparePositions } from '@tide/core/position/order'
import type { Position, PositionOrder } from '@tide/core/position/position'
import { printName, type DatasetName } from '@tide/core/records/dataset'
import type { Journal } from '@tide/journal/journal'
import { placeAtPosition, placeAtTime, type Place } from '@tide/journal/place'
import { JournalReader } from '@tide/journal/reader'
import type { FollowedTable } from './followed.ts'
import { readAs } from './drift.ts'

const AT_ONCE = 5_000

/** Changes of some tables between two places. */
export interface Span {
  transactions: number
  /** In the order of the tables. */
  changes: number[]
  /** False: it was not looked at to its end. */
  counted: boolean
}

/** `now`: the source's clock where it is known, in microseconds since 1970. Throws a Failure for what is not in the journal. */
export async function placeFor(journal: Journal, to: PlaceAsked, now: number | null): Promise<Place> {
  const begins = journal.facts().start
  if ('time' in to) {
    const time = Date.parse(to.time) * 1000
    if (Number.isNaN(time))
      throw refused(`“${to.time}” is no time.`, 'Give one such as 2026-03-01T12:00:00Z.')
    const latest = Math.max(now ?? 0, journal.endsAt, Date.now() * 1000)
    if (time > latest)
      throw refused(`${to.time} is in the future at the source.`, `It is ${isoOf(latest)} there now.`)
    if (begins.at > 0 && time < begins.at) {
      throw refused(
        `The journal does not hold what was committed at ${to.time}.`,
        `The first transaction in it is of ${isoOf(begins.at)}. For what was before, copy the tables again.`,
      )
    }
    return placeAtTime(journal, time)
  }
  const { position } = to
  const { start, end } = journal
  let order: 'before' | 'behind' | 'within'
  try {
    order = journal.isAfter(start.at, position)
      ? 'before'
      : journal.isAfter(position, end.at)
        ? 'behind'
        : 'within'
  } catch (cause) {
    throw refused(
      `“${position}” is no position of this source.`,
      `Give one as the source prints it, such as ${end.at}.`,
      cause,
    )
  }
  if (order === 'within') return placeAtPosition(journal, position)
  if (order === 'before') {
    throw refused(
      `The journal no longer holds what follows ${position}.`,
      `It begins at ${start.at}. For what was before, copy the tables again.`,
    )
  }
  throw refused(
    `${position} lies behind the end of the journal.`,
    `What was read of the source so far ends at ${end.at}; is it a position of this source?`,
  )
}

/** Where whoever copies nothing begins. Throws a Failure where the journal does not have all changes of the tables from there on. */
export async function followableFrom(
  journal: Journal,
  tables: readonly DatasetName[],
  asked: PlaceAsked,
  now: number | null,
): Promise<Position> {
  const position = journal.position((await placeFor(journal, asked, now)).position)
  for (const table of tables) {
    const begins = journal.coveredFrom(table)
    if (begins && comparePositions(begins, position) !== 'after') continue
    throw refused(
      `Changes of ${printName(table)} ${begins ? `are in the journal only from ${begins.at} on` : 'are not in the journal yet'}.`,
      'Begin behind that, take the table out, or follow from the start on.',
    )
  }
  return position
}

/** Counts until `isLate` says so. Throws a Failure where a table was another one than the lane is planned for. */
export async function spanBetween(
  journal: Journal,
  tables: readonly FollowedTable[],
  from: string,
  to: string,
  isLate: () => boolean,
): Promise<Span> {
  const span: Span = { transactions: 0, changes: tables.map(() => 0), counted: false }
  const reader = new JournalReader(journal, from, relation => readAs(tables, relation))
  let last = ''
  try {
    while (!isLate()) {
      const { transactions, at, complete } = await reader.read(AT_ONCE)
      for (const { start, events } of transactions) {
        if (!journal.isAfter(to, start)) return { ...span, counted: true }
        if (start !== last) span.transactions++
        last = start
        for (const { lane } of events) span.changes[lane]!++
      }
      if (transactions.length === 0 || (complete && !journal.isAfter(to, at)))
        return { ...span, counted: true }
    }
    return span
  } catch (thrown) {
    throw notThatFar(thrown)
  } finally {
    await reader.close()
  }
}

/** What would stop a pipeline on its way is no place to go back to. */
export function notThatFar(thrown: unknown): unknown {
  if (!(thrown instanceof Failure) || thrown.kind !== 'structural') return thrown
  return refused(
    `It cannot be gone back so far: ${thrown.message}`,
    'Go back to a place behind that, or copy the table again.',
    thrown,
  )
}

/** From where on each table's changes are in the journal; undefined: not at all. */
export function coverageOf(journal: Journal, tables: readonly FollowedTable[]): (Position | undefined)[] {
  return tables.map(({ dataset }) => journal.coveredFrom(dataset))
}

/** Whether a position lies within the journal. */
export function holds(journal: Journal, position: Position): boolean {
  const isWithin = (order: PositionOrder, side: PositionOrder) => order === 'same' || order === side
  return (
    isWithin(comparePositions(position, journal.start), 'after') &&
    isWithin(comparePositions(position, journal.end), 'before')
  )
}

export function isoOf(microseconds: number): string {
  return new Date(microseconds / 1000).toISOString()
}

function refused(message: string, remedy: string, cause?: unknown): Failure {
  return new Failure('refused', message, remedy, cause)
}
