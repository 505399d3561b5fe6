/** History tables: one row for every change of a lane's rows, in a table beside its own that only grows. */
import { fitName, foldName } from '../naming/profile.ts'
import { datasetId, printName, type DatasetName } from '../records/dataset.ts'
import type { LogicalType } from '../records/types.ts'
import { decidedByRow } from '../shape/written.ts'
import type { PlanInput } from './input.ts'
import type { History, HistoryColumn, Lane } from './lane.ts'
import type { LaneRuling } from './lane-rules.ts'
import { grouped, someOf, type PlanNote } from './note.ts'
import type { PrepareStep } from './steps.ts'
import { takenTables, tableKey } from './tables.ts'

const TEXT: LogicalType = { kind: 'utf8' }
const NUMBER: LogicalType = { kind: 'int', bits: 32, signed: true }
const MOMENT: LogicalType = { kind: 'timestamp', zoned: true }

/** Said of each change; none of these names begins like those of values. */
const ABOUT: {
  name: string
  type: LogicalType
  from: Exclude<HistoryColumn['value']['from'], 'before' | 'after'>
}[] = [
  { name: 'position', type: TEXT, from: 'position' },
  { name: 'number', type: NUMBER, from: 'number' },
  { name: 'operation', type: TEXT, from: 'operation' },
  { name: 'committed_at', type: MOMENT, from: 'committed at' },
  { name: 'landed_at', type: MOMENT, from: 'landed at' },
  { name: 'transaction_id', type: TEXT, from: 'transaction' },
  { name: 'not_told', type: TEXT, from: 'not told' },
]

export interface PlannedHistory {
  lanes: Lane[]
  steps: PrepareStep[]
}

/** Gives those lanes a history table that are to have one. What cannot be is in the notes. */
export function planHistory(
  lanes: readonly Lane[],
  ruling: LaneRuling,
  input: PlanInput,
  notes: PlanNote[],
): PlannedHistory {
  const follows = input.does === undefined || input.does === 'follow'
  // Where every change lands in files, those are its history.
  const kept = new Set(
    lanes.filter(({ source, history }) => follows && !history && ruling.of(source).history),
  )
  if (kept.size > 0 && input.profile.lake) {
    notes.push({
      level: 'refused',
      message: 'A merged table keeps no history table beside it.',
      remedy:
        'Keep none: its snapshots are there to go back to, and change files in another pipeline tell of every change.',
      section: 'rows',
    })
    return { lanes: [...lanes], steps: [] }
  }
  if (kept.size === 0) return { lanes: [...lanes], steps: [] }
  const { profile } = input
  const keyOf = (table: DatasetName) => tableKey(profile, table)
  const taken = takenTables(lanes, input)
  const present = new Map(input.target.map(there => [keyOf(there), there]))
  const own = new Set(input.own.map(keyOf))
  const steps: PrepareStep[] = []
  const histories = new Map<Lane, History>()
  for (const group of grouped([...kept], ({ target }) => datasetId(target))) {
    const [first] = group as [Lane]
    const refuse = (message: string, remedy: string) =>
      notes.push({ level: 'refused', message, remedy, tables: [first.source], section: 'rows' })
    const history = historyOf(first, group.length > 1 || first.origin !== undefined, input)
    const shown = printName(history.table)
    const names = [history.table.name, ...history.columns.map(({ name }) => name)]
    const odd = names.flatMap(name => {
      const fit = fitName(name, profile.naming)
      return 'refused' in fit ? [`${name}: ${fit.refused}`] : []
    })
    if (odd.length > 0) {
      refuse(
        `The target will not take names of the history of ${printName(first.source)}: ${odd.slice(0, 3).join('; ')}.`,
        'Name the table or its columns shorter by rules, or keep no history of it.',
      )
      continue
    }
    const key = keyOf(history.table)
    const there = present.get(key)
    const because =
      taken.get(key) ?? (there && !own.has(key) ? 'it is there already, and not of this pipeline' : undefined)
    if (because) {
      refuse(
        `${shown} cannot be the history of ${printName(first.source)}: ${because}.`,
        'Name the table otherwise by a rule, or keep no history of it.',
      )
      continue
    }
    taken.set(key, `it is the history of ${printName(first.source)}`)
    for (const lane of group) histories.set(lane, history)
    steps.push(
      ...stepsFor(
        history,
        there?.fields.map(({ name }) => name),
        profile,
      ),
    )
  }
  const tables = [...new Set([...histories.keys()].map(({ source }) => printName(source)))]
  if (tables.length > 0) {
    const all = tables.length === new Set(lanes.map(({ source }) => datasetId(source))).size
    const beside = tables.length === 1 ? 'it' : 'each'
    notes.push({
      level: 'warning',
      message: `Every change of ${all && tables.length > 1 ? 'all tables' : someOf(tables)} is kept in a history table beside ${beside}, which only grows.`,
      remedy: 'Delete old rows there whenever they are of no more use; nothing else reads them.',
      section: 'rows',
    })
  }
  return {
    lanes: lanes.map(lane => {
      const history = histories.get(lane)
      return history ? { ...lane, history } : lane
    }),
    steps,
  }
}

/** `shared`: several origins have it in common. */
function historyOf(lane: Lane, shared: boolean, { profile }: PlanInput): History {
  const fold = (name: string) => foldName(name, profile.naming)
  const column = (name: string, type: LogicalType, value: HistoryColumn['value']): HistoryColumn => {
    const { native } = profile.typeOf({ type, nativeType: '', sameKind: false, keyParts: 0 })
    return { name: fold(name), type, nativeType: native, nullable: true, value }
  }
  // How its row came is said of each change for itself.
  const values = decidedByRow(lane)
  return {
    table: { namespace: lane.target.namespace, name: `${lane.target.name}${fold('_history')}` },
    columns: [
      ...ABOUT.map(({ name, type, from }) => column(name, type, { from })),
      ...(shared ? [column('origin', TEXT, { from: 'origin' })] : []),
      // As text, so that there is no change which it would not take.
      ...values.map(({ name }) => column(`before_${name}`, TEXT, { from: 'before', column: name })),
      ...values.map(({ name }) => column(`after_${name}`, TEXT, { from: 'after', column: name })),
    ],
  }
}

/** `there`: the columns that the table has already; what it has kept so far stays. */
function stepsFor(
  { table, columns }: History,
  there: readonly string[] | undefined,
  { nameKey }: PlanInput['profile'],
): PrepareStep[] {
  const plain = columns.map(({ name, type, nativeType, nullable }) => ({ name, type, nativeType, nullable }))
  if (!there) return [{ step: 'create table', table, columns: plain, key: [] }]
  const known = new Set(there.map(nameKey))
  const adds = plain.filter(({ name }) => !known.has(nameKey(name)))
  return adds.length > 0 ? [{ step: 'alter table', table, drops: [], renames: [], adds }] : []
}
