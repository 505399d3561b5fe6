/** What of a lane can be held against its source: which columns, by which key, in which order. */
import { madeColumns, type Shaping } from '../shape/written.ts'
import type { Column } from '../records/column.ts'
import { takenFrom, type Lane, type WrittenColumn } from '../plan/lane.ts'
import { NEVER_QUOTED } from '../records/csv.ts'
import type { LogicalType } from '../records/types.ts'

export interface VerifiedLane {
  /** The lane with the columns alone that are made of the source's row, whenever it came. */
  lane: Lane
  /** Where the parts of the key that rows are put in order by are among those. */
  keyPlaces: number[]
  /** The source's columns that these are taken from. */
  sourceKey: string[]
  order: ('number' | 'text')[]
  /** Of the columns that are read, and of those that are written: their texts may need quotes. */
  quotedAtSource: boolean[]
  quotedAtTarget: boolean[]
  /** The column that says when the source has deleted a row that is kept; undefined: there is none. */
  deletedAt: string | undefined
  /** Rows at the target that the source does not have belong there. */
  keepsOthers: boolean
}

const NUMBERS = new Set<LogicalType['kind']>(['int', 'decimal', 'float'])

/** `because`: why its rows cannot be held against each other. */
export function verifiedLane(lane: Lane, shaping: Shaping): VerifiedLane | { because: string } {
  if (lane.files?.as === 'changes') return { because: 'its changes land as files, each as a row of its own' }
  const made = madeColumns(lane, shaping)
  const writes = lane.writes.filter((_, i) => made[i]!.ofRow)
  const keyPlaces: number[] = []
  const sourceKey: string[] = []
  const order: VerifiedLane['order'] = []
  for (const name of lane.key) {
    const column = lane.writes.find(one => one.name === name)!
    // The same for all of the lane's rows.
    if (column.value.from === 'origin' || column.value.from === 'constant') continue
    const source = takenFrom(column)
    if (source === undefined) return { because: `its key ${name} is not taken from the source as it is` }
    const read = lane.reads.find(one => one.name === source)!
    keyPlaces.push(writes.indexOf(column))
    sourceKey.push(source)
    order.push(isNumber(read) && isNumber(column) ? 'number' : 'text')
  }
  if (keyPlaces.length === 0) return { because: 'its rows have no key' }
  const plain = (column: WrittenColumn) => {
    const source = takenFrom(column)
    const read = lane.reads.find(one => one.name === source)
    return NEVER_QUOTED.has(column.type.kind) && (!read || NEVER_QUOTED.has(read.type.kind))
  }
  return {
    lane: { ...lane, writes },
    keyPlaces,
    sourceKey,
    order,
    quotedAtSource: lane.reads.map(
      ({ name, type }) =>
        !NEVER_QUOTED.has(type.kind) || writes.some(column => takenFrom(column) === name && !plain(column)),
    ),
    quotedAtTarget: writes.map(column => !plain(column)),
    deletedAt: lane.writes.find(({ value }) => value.from === 'metadata' && value.what === 'deleted at')
      ?.name,
    keepsOthers: lane.deletes === 'keep' || lane.there === 'add',
  }
}

/** Numbers without limits are texts at some targets. */
function isNumber({ type, nativeType }: Pick<Column, 'type' | 'nativeType'>): boolean {
  return NUMBERS.has(type.kind) && !/char|text/i.test(nativeType)
}
