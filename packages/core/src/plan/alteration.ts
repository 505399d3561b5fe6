/** What of a table can be altered in place, so that its rows need not be copied again. */
import { Type, type Static } from 'typebox'
import { canonicalJson } from '../definition/canonical-json.ts'
import { columnSchema } from '../records/column.ts'
import { datasetId, datasetNameSchema, type DatasetName } from '../records/dataset.ts'
import type { Lane, WrittenColumn } from './lane.ts'

export const alterationSchema = Type.Object({
  table: datasetNameSchema,
  /** Its new name in the same schema. */
  to: Type.Optional(datasetNameSchema),
  drops: Type.Array(Type.String()),
  /** No name that a column gets is one that another had. */
  renames: Type.Array(Type.Object({ from: Type.String(), to: Type.String() })),
  /** Columns that are null in the rows that are there. */
  adds: Type.Array(columnSchema),
})

export type Alteration = Static<typeof alterationSchema>

/** `fills`: columns whose values come from the source, by which the rows that are there are written over. */
export interface LaneAlteration extends Alteration {
  fills: string[]
}

export function isNothing({ to, drops, renames, adds }: Alteration): boolean {
  return to === undefined && drops.length + renames.length + adds.length === 0
}

/**
 * From the table of `was` to that of `lane`; undefined where rows that are there would not be what the lane writes.
 * `isFree`: whether a table may take this name.
 */
export function alterationOf(
  was: Lane,
  lane: Lane,
  nameKey: (name: string) => string,
  isFree: (table: DatasetName) => boolean,
): LaneAlteration | undefined {
  const moved = datasetId(was.target) !== datasetId(lane.target)
  if (moved && (was.target.namespace !== lane.target.namespace || !isFree(lane.target))) return undefined
  const left = [...was.writes]
  const take = (find: (column: WrittenColumn) => boolean) => {
    const place = left.findIndex(find)
    return place < 0 ? undefined : left.splice(place, 1)[0]
  }
  const before = new Map<string, string>()
  const [adds, fills]: [WrittenColumn[], string[]] = [[], []]
  // What keeps its name first: of two columns that are made alike, each stays the one that it was.
  const later = lane.writes.filter(column => {
    const same = take(one => one.name === column.name && isAlike(one, column))
    if (same) before.set(column.name, same.name)
    return !same
  })
  for (const column of later) {
    const same = take(one => isAlike(one, column))
    if (same) {
      before.set(column.name, same.name)
      continue
    }
    const present = left.find(({ name }) => name === column.name)
    if (present && isFilledOver(present, column)) {
      take(one => one === present)
      before.set(column.name, column.name)
      fills.push(column.name)
      continue
    }
    if (!isNullInAll(column) && !isFilled(column)) return undefined
    adds.push(column)
    if (!isNullInAll(column)) fills.push(column.name)
  }
  if (fills.length > 0 && !canFill(was, lane, fills)) return undefined
  if (lane.key.map(name => before.get(name)).join('\n') !== was.key.join('\n')) return undefined
  const renames = [...before].flatMap(([to, from]) => (from === to ? [] : [{ from, to }]))
  const had = new Set(was.writes.map(({ name }) => nameKey(name)))
  const gets = [...renames.map(({ to }) => to), ...adds.map(({ name }) => name)]
  if (gets.some(name => had.has(nameKey(name)))) return undefined
  return {
    table: was.target,
    ...(moved ? { to: lane.target } : {}),
    drops: left.map(({ name }) => name),
    renames,
    // Null until it is filled, so that its table takes that.
    adds: adds.map(({ name, type, nativeType }) => ({ name, type, nativeType, nullable: true })),
    fills,
  }
}

const FILLED: readonly WrittenColumn['value']['from'][] = [
  'column',
  'constant',
  'masked',
  'retyped',
  'cut',
  'was cut',
  'computed',
]

/** Made from the row alone. */
function isFilled({ value }: WrittenColumn): boolean {
  return FILLED.includes(value.from)
}

/** What is masked from now on must be gone at once, also from rows that nobody writes over. */
function isFilledOver(was: WrittenColumn, column: WrittenColumn): boolean {
  return (
    was.nativeType === column.nativeType &&
    was.nullable === column.nullable &&
    [was, column].every(({ value }) => FILLED.includes(value.from)) &&
    column.value.from !== 'masked'
  )
}

/**
 * Of a column that was not read before, changes that are on their way do not tell. A key says which row it is. Where every change lands, what is
 * written over is no change.
 */
function canFill(was: Lane, lane: Lane, fills: readonly string[]): boolean {
  const read = new Set(was.reads.map(({ name, nativeType }) => `${nativeType} ${name}`))
  return (
    lane.files?.as !== 'changes' &&
    lane.reads.every(({ name, nativeType }) => read.has(`${nativeType} ${name}`)) &&
    !fills.some(name => lane.key.includes(name))
  )
}

/** The rows that are there have in the one just what they would get in the other. */
function isAlike(was: WrittenColumn, column: WrittenColumn): boolean {
  return (
    was.nativeType === column.nativeType &&
    was.nullable === column.nullable &&
    canonicalJson(was.value) === canonicalJson(column.value)
  )
}

/** Of rows that are there already it is not known any more how they came. */
function isNullInAll({ value, nullable }: WrittenColumn): boolean {
  return nullable && (value.from === 'metadata' || (value.from === 'constant' && value.value === null))
}
