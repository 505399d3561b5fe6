/** What was deleted in an app, where a feed of its own tells that. */
import type { DescribedRecords } from '@tide/core/app/described-records'
import { Failure } from '@tide/core/failure'
import type { ToldChanges } from '../contract/app.ts'
import type { Caller } from './caller.ts'
import type { Understood } from './understood.ts'
import { at, textOf } from './values.ts'

type Feed = NonNullable<DescribedRecords['gone']>

/** However long the feed is, there is an end. */
const MOST_PAGES = 100_000

/** Its beginning, where nothing was in it yet. */
const BEGINNING = ''

interface Asking {
  app: string
  caller: Caller
  understood: Understood
  signal: AbortSignal
}

/** Where an object is told of by its list and by a feed of what was deleted. */
interface Places {
  list: string | null
  feed: string | null
}

/** One from before there was a feed is of the list alone. */
export function placesIn(cursor: string | null): Places {
  const told = cursor === null ? {} : (JSON.parse(cursor) as Partial<Places> & { at?: string })
  return told.at === undefined
    ? { list: told.list ?? null, feed: told.feed ?? null }
    : { list: cursor, feed: null }
}

/** What the list tells, and the feed: that is asked before, so that what is in the list is there. */
export async function* besideFeed(
  list: AsyncGenerator<ToldChanges>,
  feed: Feed,
  object: string,
  place: string | null,
  asking: Asking,
): AsyncGenerator<ToldChanges> {
  const deleted = await deletedSince(feed, object, place, asking)
  const lost = new Set(deleted.keys)
  let after: string | null = null
  for await (const { changed, gone, cursor = null } of list) {
    for (const { id } of changed) lost.delete(id)
    after = cursor
    yield { changed, ...(gone && { gone }) }
  }
  const cursors: Places = { list: after, feed: deleted.place }
  yield {
    changed: [],
    gone: [...lost],
    ...(deleted.anew && { anew: true }),
    cursor: JSON.stringify(cursors),
  }
}

/** `anew`: what came since the place is not known. `place`: from which the feed goes on. */
interface Deleted {
  keys: string[]
  place: string
  anew: boolean
}

/** `place`: null for the first time, when all that stands in the feed is past. */
async function deletedSince(
  { path, items = '', id, parameter, next }: Feed,
  object: string,
  place: string | null,
  { app, caller, understood, signal }: Asking,
): Promise<Deleted> {
  const keys: string[] = []
  let [from, isAnew] = [place ?? BEGINNING, place === null]
  for (let page = 0; page < MOST_PAGES; page++) {
    const query = from === BEGINNING ? {} : { [parameter]: from }
    const answer = await caller.call({ method: 'GET', path, query, signal })
    if (answer.status === 410 && from !== BEGINNING) {
      // So far back the app does not remember; what is left is told from its beginning.
      ;[from, isAnew] = [BEGINNING, true]
      continue
    }
    const found = understood.list(answer, `what was deleted of ${object}`, items, 'gone.items')
    if (found.length === 0) return { keys: isAnew ? [] : keys, place: from, anew: isAnew }
    for (const one of found) {
      const key = textOf(at(one, id))
      if (key === null) throw understood.otherwise(`what was deleted of ${object}, without a key`, 'gone.id')
      keys.push(key)
    }
    const after = textOf(at(answer.body, next))
    if (after === null || after === from)
      throw new Failure(
        'structural',
        `${app} does not say from where what was deleted of ${object} goes on.`,
        'Correct “gone.next” in the description.',
      )
    from = after
  }
  throw understood.otherwise(`what was deleted of ${object}, without an end`, 'gone')
}
