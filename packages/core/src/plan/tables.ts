/** The lanes: which source table goes into which target table, and which cannot. */
import { pathOf } from '../naming/pattern.ts'
import type { Namer } from '../naming/namer.ts'
import { printName, type Dataset, type DatasetName } from '../records/dataset.ts'
import { planColumns, type ChangedType, type ColumnRules } from './columns.ts'
import { madeOf, type Lane, type WrittenColumn } from './lane.ts'
import { grouped, someOf, type PlanNote } from './note.ts'
import type { OriginInput, PlanInput } from './input.ts'
import type { LaneRuling } from './lane-rules.ts'
import type { Scopes } from './scopes.ts'
import { targetKey } from './target-key.ts'

/** All that decides how tables become lanes. */
export interface LaneRules {
  namer: Namer
  rules: ColumnRules
  scopes: Scopes
  ruling: LaneRuling
}

/** The lane of a table; `undefined` when there can be none, and the notes say why. */
export function planLane(
  dataset: Dataset,
  { namer, rules, scopes, ruling }: LaneRules,
  input: PlanInput,
  origin: OriginInput,
  notes: PlanNote[],
  changed: ChangedType[],
): Lane | undefined {
  const table: DatasetName = { namespace: dataset.namespace, name: dataset.name }
  const refuse = (message: string, remedy: string, section: PlanNote['section'] = 'tables') =>
    notes.push({ level: 'refused', message, remedy, tables: [table], section })
  const shown = printName(table)
  const schema = namer.schema(table)
  const tableName = namer.table(table)
  if (tableName.refused) {
    refuse(
      `The target will not take ${tableName.by.length > 0 ? `${tableName.name}, which ${shown} becomes` : `the name of ${shown}`}: ${tableName.refused}.`,
      'Name it otherwise by a rule, or leave it out.',
      'names',
    )
  }
  if (dataset.key.length === 0) {
    const why = dataset.keyNote ?? 'Changes to its rows cannot be told apart.'
    refuse(`${shown} has no key. ${why}`, 'Leave it out, or give it a primary key at the source.')
  }
  if (dataset.notFollowed) {
    refuse(
      `${shown} cannot be followed: ${dataset.notFollowed}.`,
      'Leave it out, or change that at the source.',
    )
  }
  if (dataset.unseen) {
    notes.push({
      level: 'warning',
      message: `${shown}: ${dataset.unseen}.`,
      remedy: 'Recopy the lane after it.',
      tables: [table],
      section: 'tables',
    })
  }
  const untold = dataset.fields.find(({ name, notCaptured }) => notCaptured && dataset.key.includes(name))
  if (untold) {
    refuse(
      `${shown}.${untold.name} is part of the key, and left out: ${untold.notCaptured}.`,
      'Leave the table out, or give it another key at the source.',
    )
  }
  const { scope, columns } = scopes.of(dataset, notes)
  const { deletes, key: named } = ruling.of(table)
  const keyed = targetKey(dataset, named, notes)
  const {
    reads,
    leftOut,
    writes,
    odd,
    changed: types,
  } = planColumns(dataset, keyed, namer, rules, columns, deletes, input, origin, notes)
  changed.push(...types)
  if (odd.length > 0) {
    refuse(
      `The target will not take column names of ${shown}: ${odd.join('; ')}.`,
      'Name them otherwise by rules, or leave the table out.',
      'names',
    )
  }
  noteHidden(table, columns, writes, notes)
  const problem = dataset.fields.find(({ tellsProblem }) => tellsProblem)
  const key = keyed.map(name => writes.find(column => madeOf(column) === name)?.name)
  if (
    schema.refused ||
    tableName.refused ||
    odd.length > 0 ||
    untold ||
    key.length === 0 ||
    key.includes(undefined)
  )
    return undefined
  return {
    ...(origin.tag === '' ? {} : { origin: origin.tag }),
    source: table,
    target: { namespace: schema.name, name: tableName.name },
    reads,
    ...(leftOut.length > 0 ? { leftOut } : {}),
    ...(problem ? { problem: problem.name } : {}),
    identity: dataset.key,
    writes,
    key: key as string[],
    scope,
    ...(deletes === 'keep' ? { deletes } : typeof deletes === 'object' ? { deletes: 'mark' } : {}),
    rows: dataset.rows,
    rowsExact: dataset.rowsExact,
    bytes: dataset.bytes,
  }
}

/** Which rows are there tells something of the columns that decide it. */
function noteHidden(
  table: DatasetName,
  scoped: readonly string[],
  writes: readonly WrittenColumn[],
  notes: PlanNote[],
): void {
  const hidden = scoped.filter(
    name => !writes.some(({ value }) => value.from === 'column' && value.column === name),
  )
  if (hidden.length === 0) return
  notes.push({
    level: 'warning',
    message: `The scope of ${printName(table)} looks at ${hidden.join(', ')}, which the target does not get as it is: which rows are there tells something of it.`,
    remedy: 'Nothing need be done where that may be known.',
    tables: [table],
    section: 'rows',
  })
}

/** Equal for tables that are the same to the target. */
export function tableKey({ nameKey }: PlanInput['profile'], { namespace, name }: DatasetName): string {
  return pathOf(nameKey(namespace), nameKey(name))
}

/** Target tables that are another pipeline's, or two lanes' at once. */
export function refuseTakenTables(lanes: readonly Lane[], input: PlanInput, notes: PlanNote[]): void {
  const keyOf = (table: DatasetName) => tableKey(input.profile, table)
  const claims = new Map(input.claims.map(claim => [keyOf(claim.table), claim]))
  const first = new Map<string, Lane>()
  const claimed: { lane: Lane; by: string }[] = []
  for (const lane of lanes) {
    const key = keyOf(lane.target)
    const twin = first.get(key)
    if (!twin) first.set(key, lane)
    else refuseTwins(twin, lane, notes)
    const claim = claims.get(key)
    if (claim) claimed.push({ lane, by: claim.pipeline })
  }
  for (const group of grouped(claimed, ({ by }) => by)) {
    notes.push({
      level: 'refused',
      message: `${targetsOf(group)} ${group.length === 1 ? 'belongs' : 'belong'} to the pipeline “${group[0]!.by}”.`,
      remedy: 'Choose another target schema, or delete that pipeline first.',
      tables: group.map(({ lane }) => lane.source),
      section: 'to',
    })
  }
}

function targetsOf(group: readonly { lane: Lane }[]): string {
  return someOf(group.map(({ lane }) => printName(lane.target)))
}

function refuseTwins(twin: Lane, lane: Lane, notes: PlanNote[]): void {
  notes.push({
    level: 'refused',
    message: `${printName(twin.source)} and ${printName(lane.source)} would both go into ${printName(lane.target)}.`,
    remedy: 'Name one of them otherwise by a rule, or leave one out.',
    tables: [lane.source],
    section: 'names',
  })
}

/** By `tableKey`, why no other table can be there: somebody else writes it, or a lane goes there. */
export function takenTables(
  lanes: readonly Lane[],
  { claims, profile }: Pick<PlanInput, 'claims' | 'profile'>,
): Map<string, string> {
  const keyOf = (table: DatasetName) => tableKey(profile, table)
  const taken = new Map<string, string>()
  for (const { table, pipeline } of claims) taken.set(keyOf(table), `the pipeline “${pipeline}” writes it`)
  for (const { source, target, history } of lanes) {
    taken.set(keyOf(target), `${printName(source)} goes there`)
    if (history) taken.set(keyOf(history.table), `it is the history of ${printName(source)}`)
  }
  return taken
}
