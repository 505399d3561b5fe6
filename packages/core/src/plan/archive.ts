/** Archives: rows in scope move from an operational table to a merged table in a lake, and are deleted at the source. */
import { printName } from '../records/dataset.ts'
import type { PlanInput } from './input.ts'
import { takenFrom, type Lane } from './lane.ts'
import { someOf, type PlanNote } from './note.ts'

/** Whatever would make an archive hold less than what is deleted is refused in the notes. */
export function planArchive(lanes: readonly Lane[], input: PlanInput, notes: PlanNote[]): Lane[] {
  const refuse = (
    section: PlanNote['section'],
    message: string,
    remedy: string,
    some: readonly Lane[] = [],
    level: PlanNote['level'] = 'refused',
  ) =>
    notes.push({
      level,
      section,
      message,
      remedy,
      ...(some.length > 0 ? { tables: some.map(({ source }) => source) } : {}),
    })
  if (!input.profile.lake)
    refuse(
      'to',
      'Rows are archived in a folder or a bucket, and the target is neither.',
      'Choose one as the target.',
    )
  if (input.origins.length > 1)
    refuse('from', 'An archive has one source.', 'Make a pipeline for each of them.')
  const named = (some: readonly Lane[]) => someOf(some.map(({ source }) => printName(source)))
  const everything = lanes.filter(({ scope }) => scope === null)
  if (everything.length > 0)
    refuse(
      'rows',
      `It is not said which rows of ${named(everything)} are archived.`,
      'Give them a scope, such as what is older than two years.',
      everything,
      'undecided',
    )
  for (const lane of lanes) {
    const kept = new Set(lane.writes.map(takenFrom))
    const lost = [
      ...(lane.leftOut ?? []),
      ...lane.reads.map(({ name }) => name).filter(name => !kept.has(name)),
    ]
    if (lost.length > 0)
      refuse(
        'columns',
        `${someOf(lost)} of ${printName(lane.source)} would be gone when its rows are deleted: the archive does not hold ${lost.length === 1 ? 'it as it is' : 'them as they are'}.`,
        'Take out the column rules that leave out, mask, cut or retype.',
        [lane],
      )
    if (lane.key.length === 0 || lane.identity.some(name => !lane.key.some(key => keyIs(lane, key, name))))
      refuse(
        'rows',
        `${printName(lane.source)} would be archived by another key than its own, so that rows could meet.`,
        'Take the key out of its lane rule.',
        [lane],
      )
  }
  const marked = lanes.filter(({ deletes }) => deletes !== undefined)
  if (marked.length > 0 || input.status !== undefined)
    refuse('start', 'An archive marks no deletions and keeps no status tables.', 'Take these out.', marked)
  const scoped = lanes.filter(({ scope }) => scope !== null)
  if (scoped.length > 0)
    notes.push({
      level: 'loss',
      section: 'start',
      message: `Rows of ${named(scoped)} in scope are deleted at the source, each once it stands in the archive as it does there.`,
      remedy:
        input.elsewhere === 'go'
          ? 'A row that changes meanwhile stays, and so does one that others refer to. Who follows these tables elsewhere deletes the rows, too.'
          : 'A row that changes meanwhile stays, and so does one that others refer to. Other targets of the source keep the rows, and their verifications find them there alone.',
      tables: scoped.map(({ source }) => source),
      others: true,
    })
  // What was archived before stays.
  return lanes.map(lane => ({ ...lane, there: 'add' }))
}

function keyIs({ writes }: Lane, key: string, source: string): boolean {
  const column = writes.find(({ name }) => name === key)
  return column !== undefined && takenFrom(column) === source
}
