/** Change files: at a lake, each change of a lane's rows becomes a row of a file that nobody alters any more. */
import { COMPRESSED_BY, foldersOf, landedFiles } from '../definition/files.ts'
import { printName } from '../records/dataset.ts'
import type { LogicalType } from '../records/types.ts'
import { decidedByRow } from '../shape/written.ts'
import type { PlanInput } from './input.ts'
import type { HistoryColumn, Lane } from './lane.ts'
import { someOf, type PlanNote } from './note.ts'

const TEXT: LogicalType = { kind: 'utf8' }
const NUMBER: LogicalType = { kind: 'int', bits: 32, signed: true }
const MOMENT: LogicalType = { kind: 'timestamp', zoned: true }

/** What is said of each change; their names begin so that few columns of tables are called so. */
const ABOUT = [
  ['change_operation', TEXT, 'operation'],
  ['change_committed_at', MOMENT, 'committed at'],
  ['change_landed_at', MOMENT, 'landed at'],
  ['change_transaction', TEXT, 'transaction'],
  ['change_position', TEXT, 'position'],
  ['change_number', NUMBER, 'number'],
  ['change_not_told', { kind: 'json' }, 'not told'],
] as const satisfies [string, LogicalType, HistoryColumn['value']['from']][]

/** An example of a moment, to show what a template makes. */
const EXAMPLE = '2026-03-09T17:00:00Z'

/** Says of each lane what files it becomes. What cannot be is in the notes. */
export function planFiles(lanes: readonly Lane[], input: PlanInput, notes: PlanNote[]): Lane[] {
  const { profile, does } = input
  const choice = does === 'archive' && profile.lake ? archiveFiles(input, notes) : input.files
  const refuse = (message: string, remedy: string, some: readonly Lane[] = []) =>
    notes.push({
      level: 'refused',
      message,
      remedy,
      section: 'to',
      ...(some.length > 0 ? { tables: some.map(({ source }) => source) } : {}),
    })
  if (!profile.lake) {
    if (choice)
      refuse(
        'How files are written is said, and the target is no folder or bucket.',
        'Choose one as the target, or take what is said of files out.',
      )
    return [...lanes]
  }
  const files = landedFiles(choice ?? {})
  const { format, compress, as, folders } = files
  if (!COMPRESSED_BY[format].includes(compress))
    refuse(
      `Files of ${format} cannot be compressed by ${compress}.`,
      `Choose ${COMPRESSED_BY[format].join(' or ')}.`,
    )
  if (input.origins.length > 1)
    refuse(
      'Several origins cannot write the same files: each file has its number among those of its table.',
      'Make a pipeline for each, with a target schema of its own.',
      lanes,
    )
  if (input.status !== undefined)
    refuse(
      'Status tables cannot be kept in files.',
      'Leave them out; the newest commit below _constant_tide says up to when the tables are complete.',
    )
  if (as === 'merged') {
    if (folders !== '' || choice?.before)
      refuse(
        'A merged table is the table as it is: its files are in no folders, and say nothing of before.',
        'Take that out, or have every change land as a row.',
      )
    return lanes.map(lane => ({ ...lane, files }))
  }
  const marked = lanes.filter(({ deletes }) => deletes !== undefined)
  if (marked.length > 0)
    refuse(
      `Change files say themselves when a row was deleted, and nothing else can become of it: ${someOf(marked.map(({ source }) => printName(source)))}.`,
      'Let rows that the source deletes go.',
      marked,
    )
  if (lanes.length > 0)
    notes.push({
      level: 'warning',
      message: `Every change becomes a row of a file${folders === '' ? '' : `, in folders such as ${foldersOf(folders, EXAMPLE)}`}; whoever reads them merges them into a table.`,
      remedy: 'The guide to change files says how they are read, each exactly once.',
      section: 'to',
    })
  return lanes.map(lane => {
    const columns = columnsOf(lane, choice?.before ?? false, input)
    const meeting = columns.find((one, i) => columns.some((other, j) => j < i && other.name === one.name))
    if (meeting)
      refuse(
        `${printName(lane.source)} has a column that becomes ${meeting.name}, which change files say of each change.`,
        'Name it otherwise by a rule.',
        [lane],
      )
    return { ...lane, files, history: { table: lane.target, columns } }
  })
}

/** An archive is a merged table, whatever else is not said. */
function archiveFiles({ files = {} }: PlanInput, notes: PlanNote[]): PlanInput['files'] {
  if (files.as === 'changes')
    notes.push({
      level: 'refused',
      section: 'to',
      message: 'An archive is a table that is read as one, and no row of changes.',
      remedy: 'Have it land as a merged table.',
    })
  return { ...files, as: 'merged' }
}

function columnsOf(lane: Lane, before: boolean, { profile }: PlanInput): HistoryColumn[] {
  const ofRow = decidedByRow(lane)
  const about = ABOUT.map(([name, type, from]): HistoryColumn => {
    const { native } = profile.typeOf({ type, nativeType: '', sameKind: false, keyParts: 0 })
    return { name, type, nativeType: native, nullable: true, value: { from } }
  })
  const side = (from: 'before' | 'after', prefix: string, some: typeof lane.writes) =>
    some.map(({ name, type, nativeType }): HistoryColumn => {
      const value = { from, column: name }
      return { name: `${prefix}${name}`, type, nativeType, nullable: true, value }
    })
  // Which row it was is always told.
  const told = before ? ofRow : ofRow.filter(({ name }) => lane.key.includes(name))
  return [...about, ...side('after', '', lane.writes), ...side('before', 'before_', told)]
}
