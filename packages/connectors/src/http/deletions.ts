/** What was deleted in an app, where a feed of its own tells that. */
import type { DescribedRecords } from '@tide/core/app/described-records'
import { Failure } from '@tide/core/failure'
import type { Caller } from './caller.ts'
import type { Understood } from './understood.ts'
import { at, textOf } from './values.ts'

type Feed = NonNullable<DescribedRecords['gone']>

/** However long the feed is, there is an end. */
const MOST_PAGES = 100_000

/** Its beginning, where nothing was in it yet. */
const BEGINNING = ''

/** `anew`: what came since the place is not known. `place`: from which the feed goes on. */
export interface Deleted {
  keys: string[]
  place: string
  anew: boolean
}

/** `place`: null for the first time, when all that stands in the feed is past. */
export async function deletedSince(
  { path, items = '', id, parameter, next }: Feed,
  object: string,
  place: string | null,
  {
    app,
    caller,
    understood,
    signal,
  }: { app: string; caller: Caller; understood: Understood; signal: AbortSignal },
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
